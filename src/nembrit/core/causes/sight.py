"""What one flight shows, each part worked out once, when it is first asked for."""

from collections.abc import Mapping, Sequence
from dataclasses import replace
from functools import cached_property

import numpy as np

from nembrit.core.errors import CoreError
from nembrit.core.manoeuvres.spans import Span
from nembrit.core.noise.lines import Line, OrderMasks, noise_lines, order_masks
from nembrit.core.noise.roughness import OutputRoughness, output_roughness
from nembrit.core.noise.spikes import Spikes, spikes_of
from nembrit.core.noise.vibration import Vibration, vibration_of
from nembrit.core.records.log import Recording
from nembrit.core.response.authority import lost_share, usable_mask
from nembrit.core.response.loop import oscillation
from nembrit.core.response.loops import AxisAnswer, axis_answers
from nembrit.core.response.oscillation import Oscillation, sustained
from nembrit.core.response.step import StepResponse, UncertainStep, step_response
from nembrit.core.rotors.orders import cleaned_density, order_mask
from nembrit.core.rotors.track import RotorTrack, rotor_track
from nembrit.core.setup.controller import Controller
from nembrit.core.spectra.density import SEGMENT_S, Spectrum, welch_spectrum
from nembrit.core.spectra.frames import Frames, frames_of
from nembrit.core.together import together
from nembrit.core.types import AXES, BoolArray, FloatArray


class Sight:
    """The usable part of one flight and what all analyses of it share.

    `mixer` (n_motors, 3) lets lost authority be left out; `spans` are the log's manoeuvres. Nothing here raises for
    data that cannot answer: what cannot be had is None or absent, with the reason in `reasons`.
    """

    def __init__(
        self,
        recording: Recording,
        *,
        mixer: FloatArray | None = None,
        n_motors: int | None = None,
        blades: int | None = None,
        spans: Sequence[Span] = (),
        controller: Controller | None = None,
        impossible: Mapping[str, str] | None = None,
    ) -> None:
        self.impossible: Mapping[str, str] = impossible or {}  # roles that were left out for their numbers, with the reason
        self.recording = recording
        self.controller = controller
        self.mixer = mixer
        self.n_motors = n_motors if n_motors is not None else 0 if mixer is None else mixer.shape[0]
        self.blades = blades
        self.all_spans = tuple(spans)
        end_s = recording.start_s + recording.duration_s
        self.spans = tuple(span for span in spans if span.start_s >= recording.start_s and span.end_s <= end_s)
        self._spectra: dict[tuple[str, float], Spectrum] = {}
        self.reasons: dict[str, str] = {}  # why a part is missing: ``frames``, ``response.roll``

    @cached_property
    def frames(self) -> Frames | None:
        try:
            return frames_of(self.recording)
        except CoreError as error:
            self.reasons["frames"] = str(error)
            return None

    @cached_property
    def gyro_roles(self) -> tuple[str, ...]:
        """Gyro channels that the frames hold, one an axis."""
        return () if self.frames is None else tuple(role for role in self.frames.power if role.startswith("gyro"))

    def spectrum(self, role: str, segment_s: float = SEGMENT_S) -> Spectrum:
        """Welch's density of one channel, worked out once. Raises NotEnoughData."""
        if (role, segment_s) not in self._spectra:
            values, rate_hz = self.recording.channels[role], self.recording.sample_rate_hz
            self._spectra[role, segment_s] = welch_spectrum(values, sample_rate_hz=rate_hz, segment_s=segment_s)
        return self._spectra[role, segment_s]

    @cached_property
    def track(self) -> RotorTrack | None:
        return None if self.frames is None else rotor_track(self.frames)

    @cached_property
    def lines(self) -> Mapping[str, tuple[Line, ...]]:
        """Lines by gyro role."""
        if self.frames is None:
            return {}
        return {role: self.lines_of(self.frames, role) for role in self.gyro_roles}

    def lines_of(self, frames: Frames, role: str) -> tuple[Line, ...]:
        """Lines of one channel of frames that were cut where this flight's are."""
        return noise_lines(frames, role, self.track, blades=self.blades, masks=self.line_masks)

    @cached_property
    def line_masks(self) -> OrderMasks | None:
        return None if self.frames is None or self.track is None else order_masks(self.frames, self.track)

    @cached_property
    def order_mask(self) -> BoolArray | None:
        return None if self.frames is None or self.track is None else order_mask(self.frames, self.track)

    @cached_property
    def densities(self) -> Mapping[str, FloatArray]:
        """Calm densities by gyro role, the motors' orders left out."""
        frames = self.frames
        if frames is None:
            return {}
        return {role: cleaned_density(frames, role, self.order_mask, frames.is_calm) for role in self.gyro_roles}

    @cached_property
    def spikes(self) -> Mapping[str, Spikes]:
        return {axis: found for axis in AXES if (found := spikes_of(self.recording, axis)) is not None}

    @cached_property
    def vibration(self) -> Vibration | None:
        return None if self.frames is None else vibration_of(self.recording, self.frames)

    @cached_property
    def roughness(self) -> OutputRoughness | None:
        return output_roughness(self.recording)

    @cached_property
    def usable(self) -> Mapping[str, BoolArray]:
        """Where each axis had authority at middle throttle; only axes with set-point and filtered gyro."""
        return {axis: mask for axis, (mask, _) in self._masks.items()}

    @cached_property
    def mask_notes(self) -> tuple[str, ...]:
        return tuple(dict.fromkeys(note for _, notes in self._masks.values() for note in notes))

    @cached_property
    def _masks(self) -> Mapping[str, tuple[BoolArray, tuple[str, ...]]]:
        found = {}
        for axis in AXES:
            if self.recording.has(f"setpoint.{axis}", f"gyro.{axis}"):
                mask, notes = usable_mask(self.recording, axis, mixer=self.mixer)
                found[axis] = (mask, tuple(notes))
        return found

    @cached_property
    def lost_share(self) -> float | None:
        """The larger of roll's and pitch's share of flying at middle throttle at the motor limits."""
        shares = [lost_share(self.recording, self.usable[axis]) for axis in AXES[:2] if axis in self.usable]
        return max((share for share in shares if share is not None), default=None)

    @cached_property
    def oscillations(self) -> Mapping[str, tuple[float, float]]:
        """Swing of the loop in roll and pitch: dB above the noise around it, and Hz."""
        everywhere = np.ones(self.recording.n_samples, bool)
        return {axis: swing for axis in AXES[:2] if (swing := oscillation(self.recording, axis, everywhere)) is not None}

    @cached_property
    def swings(self) -> tuple[Oscillation, ...]:
        """Sustained oscillations, the longest of each axis."""
        return tuple(found for found in together(lambda axis: sustained(self.recording, axis), AXES) if found is not None)

    @cached_property
    def loops(self) -> Mapping[str, AxisAnswer]:
        """Every axis as a loop, with its margins where they can be measured."""
        found = axis_answers(self.recording, self.usable, mixer=self.mixer, controller=self.controller)
        doubted = {axis: self._doubt(axis) for axis in AXES if axis not in self.usable}
        return {axis: replace(own, reason=doubted.get(axis) or own.reason) for axis, own in found.items()}

    def _doubt(self, axis: str) -> str:
        """Why the set-point or gyro of an axis was left out; "" where neither was."""
        return next((self.impossible[role] for role in (f"setpoint.{axis}", f"gyro.{axis}") if role in self.impossible), "")

    @cached_property
    def steps(self) -> Mapping[str, StepResponse]:
        return self._steps[0]

    @cached_property
    def least_overshoots(self) -> Mapping[str, float]:
        """Lower ends of the overshoots' intervals, also of steps that are too uncertain to be shown."""
        return self._steps[1]

    @cached_property
    def _steps(self) -> tuple[dict[str, StepResponse], dict[str, float]]:
        steps: dict[str, StepResponse] = {}
        least: dict[str, float] = {}
        for axis, found in zip(AXES, together(self._step, AXES), strict=True):
            if isinstance(found, StepResponse):
                steps[axis], least[axis] = found, found.least_overshoot_ratio
            else:
                self.reasons[f"response.{axis}"] = str(found)
                if isinstance(found, UncertainStep):
                    least[axis] = found.least_overshoot_ratio
        return steps, least

    def _step(self, axis: str) -> StepResponse | CoreError:
        """The step response of one axis, or why there is none."""
        if axis not in self.usable:
            return CoreError(
                self._doubt(axis)
                or f"the log lacks the set-point or the filtered gyro of {axis}: switch both on before the next flight"
            )
        wanted, gyro = (self.recording.channels[f"{family}.{axis}"] for family in ("setpoint", "gyro"))
        try:
            return step_response(wanted, gyro, self.usable[axis], sample_rate_hz=self.recording.sample_rate_hz)
        except CoreError as error:
            return error
