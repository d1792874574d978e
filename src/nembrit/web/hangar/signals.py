"""What others must know about a craft."""

from django.dispatch import Signal

# sent with `craft`, in the same transaction, when something changed that answers about its flights rest on
craft_changed = Signal()

# sent with `craft`, when its name map changed, or with `flights`, when others settings were noted on them: margins rest on that
controller_changed = Signal()
