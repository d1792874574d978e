"""What the stage of a tune needs next, where no flight asks for anything: one instruction, and where it is done."""

from django.urls import reverse

from nembrit.web.tunes.gates import needs_of
from nembrit.web.tunes.models import Tune
from nembrit.web.tunes.verifying import stages_of

Step = tuple[str, str]


def step_of(tune: Tune) -> Step:
    """The next step where no slip is open and nothing has to be cured or changed."""
    here = reverse("tunes:tune", args=[tune.craft_id])
    missing = next((need for need in needs_of(tune) if not need.is_met), None)
    if tune.stage == Tune.Stage.LOCKED:
        return ("Locked in. Start another tune when something changes", here)
    if missing is not None and missing.is_flown:
        return (f"Continue flying: {missing.text} ({missing.told})", tune.craft.get_absolute_url())
    if missing is not None and tune.stage == Tune.Stage.TRIM and missing.is_decided:
        slip = f"{reverse('tunes:slip_new', args=[tune.craft_id])}?group=navigation"
        return (f"No pull left: {missing.text} ({missing.told})", slip)
    if missing is not None and tune.stage == Tune.Stage.TRIM:
        slip = f"{reverse('tunes:slip_new', args=[tune.craft_id])}?group=trim"
        return (f"Trim first, then gains: {missing.text} ({missing.told})", slip)
    if missing is not None and tune.stage != Tune.Stage.VERIFY:
        return ("Write the next slip", reverse("tunes:slip_new", args=[tune.craft_id]))
    if missing is not None:
        return (f"{missing.text[:1].upper()}{missing.text[1:]}: {missing.told}", f"{here}#verify")
    if tune.stage == Tune.Stage.VERIFY:
        return ("Ready to lock in", f"{here}#verify")
    following = stages_of(tune.craft)[stages_of(tune.craft).index(tune.stage) + 1]
    return (
        f"{_done(tune.get_stage_display())}. Next: {Tune.Stage(following).label.lower()}",
        here,
    )


def _done(stage: str) -> str:
    """
    >>> _done("Gains"), _done("Trim")
    ('Gains are done', 'Trim is done')
    """
    return f"{stage} {'are' if stage.endswith('s') else 'is'} done"
