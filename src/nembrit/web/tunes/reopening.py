"""Second thoughts about a slip: numbers looked at before the planned flights, and decisions taken back."""

from django.db import transaction
from django.utils import timezone

from nembrit.core.errors import InputError
from nembrit.web.hangar.models import Configuration
from nembrit.web.hangar.services import add_build_entry, add_configuration, core_settings
from nembrit.web.tunes.models import Slip, Tune
from nembrit.web.tunes.trials import trial_of


@transaction.atomic
def look(slip: Slip) -> None:
    """Note that the numbers are looked at before the planned flights are flown: the verdict has less error to spend then."""
    slip = Slip.objects.get(pk=slip.pk)
    verdict = trial_of(slip).verdict
    if slip.state != Slip.State.OPEN or verdict.word != "not_yet":
        raise InputError("the planned flights are flown: no early look is needed")
    slip.looks = [*slip.looks, {"at": timezone.now().isoformat(), "before": verdict.n_before, "after": verdict.n_after}]
    slip.save(update_fields=("looks",))


@transaction.atomic
def reopen(slip: Slip, *, why: str) -> None:
    """Take a decision back: the slip is flown on, and what was decided stays on record.

    Raises InputError without a reason, for an open slip, or where a later slip stands on the decision.
    """
    slip = Slip.objects.select_related("tune__craft", "decision", "result_configuration", "result_build").get(pk=slip.pk)
    if slip.state == Slip.State.OPEN:
        raise InputError(f"slip {slip.number} is open already")
    if not why.strip():
        raise InputError("give a reason to reopen the slip")
    if slip.tune.stage == Tune.Stage.LOCKED:
        raise InputError("this tune is locked in")
    later = slip.tune.slips.filter(number__gt=slip.number).order_by("number").first()
    if later is not None:
        raise InputError(f"slip {later.number} was written later and depends on this decision")
    if slip.state == Slip.State.UNDONE:
        _redo(slip)
    decision = slip.decision
    kept = {"outcome": decision.outcome, "note": decision.note, "decided_at": decision.decided_at.isoformat()}
    slip.reopened = [*slip.reopened, kept | {"at": timezone.now().isoformat(), "why": why.strip()[:300]}]
    slip.state = Slip.State.OPEN
    slip.save(update_fields=("reopened", "state"))
    decision.delete()


def _redo(slip: Slip) -> None:
    """Put an undone change back on: a revision, or a build entry, equal to the one that was undone."""
    craft, note = slip.tune.craft, f"slip {slip.number} opened again"
    if slip.result_build is not None:
        build = slip.result_build
        add_build_entry(
            craft, part=build.part, text=note, faults=build.simulated_faults, is_return=True, returns_to=build
        )  # fmt: skip
    elif slip.result_configuration is not None:
        add_configuration(craft, core_settings(slip.result_configuration), source=Configuration.Source.SLIP, note=note)
