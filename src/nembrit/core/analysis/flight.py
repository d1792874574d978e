"""What all analyses of one flight start from: its usable part, its craft, and what its earlier flights showed."""

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

from nembrit.core.causes.findings import History
from nembrit.core.causes.sight import Sight
from nembrit.core.causes.symptoms import Symptoms, symptoms_of
from nembrit.core.manoeuvres.detect import manoeuvres
from nembrit.core.manoeuvres.phases import usable_window_s, window_notes
from nembrit.core.manoeuvres.sampling import slow_recording
from nembrit.core.manoeuvres.spans import Span
from nembrit.core.records.log import FlightLog, QualityNote, Recording
from nembrit.core.records.plausible import impossible, without
from nembrit.core.records.timebase import uniform
from nembrit.core.setup.controller import Controller
from nembrit.core.setup.craft import Surface
from nembrit.core.types import FloatArray

# channels that analyses read; others need not be loaded for them
ROLES = (
    "gyro_raw.", "gyro.", "setpoint.", "stick.", "throttle", "term_", "command.", "motor.", "motor_rpm.", "accel.",
    "battery_voltage", "battery_current", "gyro_temperature", "b/gyro_raw.",
    "attitude", "course", "heading", "latitude", "longitude", "ground_speed", "airspeed", "altitude", "cross_track",
    "home_distance", "servo.", "gain.", "mode", "link_quality",
)  # fmt: skip


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class CraftFacts:
    """What analyses need to know of a craft."""

    kind: str = "multirotor"
    mixer: FloatArray | None = None  # (n_motors, 3): lets lost authority be left out
    blades: int | None = None
    controller: Controller | None = None  # of the flight's own configuration, where its scales are known
    surfaces: tuple[Surface, ...] = ()  # of a plane


class Flight(Sight):
    """The usable part of a flight; each part of what it shows is worked out once, when first asked for."""

    def __init__(
        self, recording: Recording, *, craft: CraftFacts, spans: Sequence[Span] | None = None, history: History | None = None
    ) -> None:
        self.impossible = impossible(recording)  # by role, why no answer may rest on it
        recording = without(recording, self.impossible)
        super().__init__(
            recording,
            mixer=craft.mixer,
            blades=craft.blades,
            spans=manoeuvres(recording) if spans is None else spans,
            controller=craft.controller,
            impossible=self.impossible,
        )
        self.craft = craft
        self.history = history
        self.kept: dict[str, object] = {}  # answers that several analyses start from

    @cached_property
    def symptoms(self) -> Symptoms:
        """What every cause measured."""
        return symptoms_of(self)


@dataclass(frozen=True, eq=False)
class Prepared:
    """A log that was just read: on a uniform clock, with its usable window and manoeuvres."""

    log: FlightLog

    @cached_property
    def recording(self) -> Recording:
        """All channels of the main stream."""
        return uniform(self.log.main)

    @cached_property
    def slow(self) -> Recording:
        return slow_recording(self.log)

    @cached_property
    def window_s(self) -> tuple[float, float]:
        return usable_window_s(self.slow)

    @cached_property
    def notes(self) -> tuple[QualityNote, ...]:
        """What is wrong with the log, and with its window."""
        return (*self.log.quality, *window_notes(self.slow))

    @cached_property
    def spans(self) -> tuple[Span, ...]:
        return tuple(manoeuvres(self.slow))
