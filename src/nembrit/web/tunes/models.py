"""Tunes, change slips and decisions."""

from django.db import models
from django.urls import reverse

from nembrit.web.flights.models import Flight
from nembrit.web.hangar.models import BuildEntry, Configuration, Craft


class Tune(models.Model):
    """A campaign on one craft from baseline to locked."""

    class Stage(models.TextChoices):
        BASELINE = "baseline", "Baseline"
        MECHANICS = "mechanics", "Mechanics"
        TRIM = "trim", "Trim"
        FILTERS = "filters", "Filters"
        GAINS = "gains", "Gains"
        VERIFY = "verify", "Verify"
        LOCKED = "locked", "Locked"

    class Route(models.TextChoices):
        LOG_FIRST = "log_first", "log first"
        STEP_UP = "step_up", "step up by feel"
        AUTOMATIC = "automatic", "automatic tune"
        SIMILAR = "similar", "values of a similar craft"
        OWN = "own", "own way"

    class State(models.TextChoices):
        RUNNING = "running", "running"
        PAUSED = "paused", "paused"
        ABANDONED = "abandoned", "cancelled"

    craft = models.ForeignKey(Craft, on_delete=models.CASCADE, related_name="tunes")
    name = models.CharField(max_length=60, default="First tune")
    state = models.CharField(max_length=9, choices=State, default=State.RUNNING)
    route = models.CharField(max_length=10, choices=Route, default=Route.LOG_FIRST)
    stage = models.CharField(max_length=10, choices=Stage, default=Stage.BASELINE)
    started_at = models.DateTimeField(auto_now_add=True)
    locked_at = models.DateTimeField(null=True, blank=True)
    locked_configuration = models.ForeignKey(Configuration, on_delete=models.PROTECT, null=True, related_name="locked_by")
    lock_note = models.CharField(max_length=300, blank=True)  # why it was locked in without a passed comparison
    # of a coached route: starting values by dial, whether steps are fine, and flights without a slip (at, kind, dial, sign)
    coached = models.JSONField(default=dict, blank=True)
    verification = models.JSONField(default=dict, blank=True)  # the comparison with the baseline, as it stood then

    class Meta:
        ordering = ("-id",)

    def __str__(self) -> str:
        return self.name

    def get_absolute_url(self) -> str:
        return reverse("tunes:tune", args=[self.craft_id])


class Slip(models.Model):
    """One proposed change of exactly one group, and the flights that judge it."""

    class State(models.TextChoices):
        OPEN = "open", "flying"
        KEPT = "kept", "kept"
        UNDONE = "undone", "undone"

    class Direction(models.TextChoices):
        LOWER = "lower", "lower"
        HIGHER = "higher", "higher"

    tune = models.ForeignKey(Tune, on_delete=models.CASCADE, related_name="slips")
    number = models.PositiveIntegerField()
    group = models.CharField(max_length=20)
    title = models.CharField(max_length=120)
    why = models.TextField(blank=True)
    expect = models.CharField(max_length=300, blank=True)
    risk = models.CharField(max_length=300, blank=True)
    despite = models.CharField(max_length=300, blank=True)  # why settings change although mechanics are at fault
    beyond = models.CharField(max_length=300, blank=True)  # why they change although a limit stands against them
    also = models.CharField(max_length=20, blank=True)  # a second group that changes at once
    confounded = models.CharField(max_length=300, blank=True)  # why: its flights cannot tell which of the two did what
    primary_metric = models.CharField(max_length=40)
    direction = models.CharField(max_length=6, choices=Direction, default=Direction.LOWER)
    card_key = models.CharField(max_length=60, blank=True)
    state = models.CharField(max_length=6, choices=State, default=State.OPEN)
    base_configuration = models.ForeignKey(Configuration, on_delete=models.PROTECT, null=True, related_name="slips_from")
    base_build = models.ForeignKey(BuildEntry, on_delete=models.PROTECT, null=True, related_name="slips_from")
    result_configuration = models.ForeignKey(Configuration, on_delete=models.PROTECT, null=True, related_name="slips_to")
    result_build = models.ForeignKey(BuildEntry, on_delete=models.PROTECT, null=True, related_name="slips_to")
    flights_a_side = models.PositiveSmallIntegerField(default=4)
    order = models.CharField(max_length=12, default="free")  # a key of core.trials.plan.ORDERS
    limits = models.JSONField(default=list)  # harm limits: metric, most
    # what the change was predicted to do: the flight it stood on, and metric → flown, predicted, low, high in core units
    prediction = models.JSONField(default=dict, blank=True)
    extensions = models.JSONField(default=list)  # later totals a side, declared when the planned ones were not enough
    # moments at which the numbers were looked at before the planned flights: at, before, after
    looks = models.JSONField(default=list, blank=True)
    route_step = models.JSONField(default=dict, blank=True)  # of a coached route: kind, dial, before, after, sign
    reopened = models.JSONField(default=list, blank=True)  # decisions taken back: outcome, note, decided_at, at, why
    # the flight whose finding led to a repair: picked for what it showed, so it is no "before"
    cause_flight = models.ForeignKey(Flight, on_delete=models.SET_NULL, null=True, related_name="led_to")
    cause_code = models.CharField(max_length=40, blank=True)  # of that finding
    # provoke the old fault: conditions (name, value), the fault in words, and the pilot's answers by flight's row
    provoke = models.JSONField(default=dict, blank=True)
    created_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ("-number",)
        constraints = [models.UniqueConstraint(fields=("tune", "number"), name="one_slip_a_number")]

    def get_absolute_url(self) -> str:
        return reverse("tunes:slip", args=[self.pk])


class WaitingSlip(models.Model):
    """A change that is written but not flown yet: nothing of it is on the craft."""

    tune = models.ForeignKey(Tune, on_delete=models.CASCADE, related_name="waiting")
    number = models.PositiveIntegerField()
    group = models.CharField(max_length=20)
    also = models.CharField(max_length=20, blank=True)
    confounded = models.CharField(max_length=300, blank=True)
    part = models.CharField(max_length=80, blank=True)
    text = models.JSONField(default=dict)  # the fields of a slip's text, limits as in Slip
    values = models.JSONField(default=dict)  # new values by setting's name
    prediction = models.JSONField(default=dict)  # as in Slip
    base_configuration = models.ForeignKey(Configuration, on_delete=models.PROTECT, null=True, related_name="waiting_slips")
    kept_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ("number",)
        constraints = [models.UniqueConstraint(fields=("tune", "number"), name="one_waiting_slip_a_number")]

    @property
    def title(self) -> str:
        return str(self.text.get("title", ""))


class Answer(models.Model):
    """What the tuner said about one flight of a trial, and why; the rule's own answer is never stored."""

    class Use(models.TextChoices):
        IN = "in", "use it"
        OUT = "out", "leave it out"

    slip = models.ForeignKey(Slip, on_delete=models.CASCADE, related_name="answers")
    flight = models.ForeignKey(Flight, on_delete=models.CASCADE, related_name="answers")
    use = models.CharField(max_length=3, choices=Use)
    why = models.CharField(max_length=200, blank=True)

    class Meta:
        constraints = [models.UniqueConstraint(fields=("slip", "flight"), name="one_answer_a_flight")]


class Decision(models.Model):
    """What the tuner decided about a slip, with the verdict as it stood then."""

    class Outcome(models.TextChoices):
        KEEP = "keep", "kept"
        UNDO = "undo", "undone"

    slip = models.OneToOneField(Slip, on_delete=models.CASCADE, related_name="decision")
    outcome = models.CharField(max_length=4, choices=Outcome)
    note = models.CharField(max_length=300, blank=True)
    comparison = models.JSONField(default=dict)
    trial = models.JSONField(default=dict)  # nembrit.trial/1: sentence, flights with their numbers, test, version
    decided_at = models.DateTimeField(auto_now_add=True)


class Experiment(models.Model):
    """A question answered by flights of several arms, in an order that was fixed before."""

    class State(models.TextChoices):
        FLYING = "flying", "being flown"
        REVEALED = "revealed", "revealed"
        GIVEN_UP = "given_up", "cancelled"

    craft = models.ForeignKey(Craft, on_delete=models.CASCADE, related_name="experiments")
    number = models.PositiveIntegerField()
    question = models.CharField(max_length=200)
    card_key = models.CharField(max_length=60)
    metric = models.CharField(max_length=40)  # a metric, or the pilot's rating
    direction = models.CharField(max_length=6, choices=Slip.Direction, default=Slip.Direction.LOWER)
    design = models.CharField(max_length=6)  # a key of core.trials.arms.DESIGNS
    repetitions = models.PositiveSmallIntegerField()
    seed = models.PositiveIntegerField()
    is_blind = models.BooleanField(default=False)
    sealed_order = models.TextField()  # which arm each turn flies, packed so that nobody reads it by chance
    state = models.CharField(max_length=8, choices=State, default=State.FLYING)
    kept_arm = models.ForeignKey("Arm", on_delete=models.SET_NULL, null=True, related_name="kept_in")
    note = models.CharField(max_length=300, blank=True)
    made_at = models.DateTimeField(auto_now_add=True)
    revealed_at = models.DateTimeField(null=True, blank=True)

    class Meta:
        ordering = ("-number",)
        constraints = [models.UniqueConstraint(fields=("craft", "number"), name="one_experiment_a_number")]

    def __str__(self) -> str:
        return f"question {self.number}"

    def get_absolute_url(self) -> str:
        return reverse("tunes:experiment", args=[self.pk])


class Arm(models.Model):
    """One answer that is tried: settings, or anything else in words."""

    experiment = models.ForeignKey(Experiment, on_delete=models.CASCADE, related_name="arms")
    position = models.PositiveSmallIntegerField()
    name = models.CharField(max_length=80)
    configuration = models.ForeignKey(Configuration, on_delete=models.PROTECT, null=True, related_name="arms")

    class Meta:
        ordering = ("position",)
        constraints = [models.UniqueConstraint(fields=("experiment", "position"), name="one_arm_a_position")]

    def __str__(self) -> str:
        return self.name


class Turn(models.Model):
    """One flight of the order; which arm it flies stands in the experiment."""

    experiment = models.ForeignKey(Experiment, on_delete=models.CASCADE, related_name="turns")
    position = models.PositiveSmallIntegerField()
    code = models.CharField(max_length=8)
    pack = models.CharField(max_length=60, blank=True)
    flight = models.OneToOneField(Flight, on_delete=models.SET_NULL, null=True, related_name="turn")
    rating = models.PositiveSmallIntegerField(null=True)
    guess = models.ForeignKey(Arm, on_delete=models.SET_NULL, null=True, related_name="guessed_in")
    note = models.CharField(max_length=300, blank=True)
    is_skipped = models.BooleanField(default=False)
    is_rated = models.BooleanField(default=False)

    class Meta:
        ordering = ("position",)
        constraints = [models.UniqueConstraint(fields=("experiment", "position"), name="one_turn_a_position")]


class Truth(models.Model):
    """What a repair proved to be wrong, beside what Nembrit had said of it; both as they stood when the repair was decided."""

    slip = models.OneToOneField(Slip, on_delete=models.CASCADE, related_name="truth")
    cause = models.CharField(max_length=40)  # a code of core.causes.table, `clean` for nothing, or `other`
    words = models.CharField(max_length=200, blank=True)
    claimed = models.CharField(max_length=40, blank=True)  # of the finding that led to the repair
    confidence = models.FloatField(null=True)
    measured = models.JSONField(default=dict)  # numbers that the causes were judged by: no samples, no places
    told_at = models.DateTimeField(auto_now=True)

    class Meta:
        ordering = ("slip",)
