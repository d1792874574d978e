"""The recogniser: from names, units, numbers and how columns move together to a meaning for each.

Confidence is a judgement in three grades (0.9 plain, about 0.7 likely, below 0.6 to be looked at);
`docs/formats.md` says how often it was right on invented dialects.
"""

from dataclasses import replace

import numpy as np

from nembrit.core.recognise import nameless, planes, scales
from nembrit.core.recognise.clock import preamble_rates_hz
from nembrit.core.recognise.names import NAMED_BY_ROLE
from nembrit.core.recognise.notes import notes_of
from nembrit.core.recognise.preamble import scale_before
from nembrit.core.recognise.study import Draft, Study, rotor_unit
from nembrit.core.recognise.words import tokens_of
from nembrit.core.records.mapping import ColumnUse, Mapping, TableMapping
from nembrit.core.records.raw import RawColumn, RawLog
from nembrit.core.records.relations import held, integrated, likeness, middle_rows, roughness
from nembrit.core.records.roles import QUANTITIES, quantity_of, spoken, unit_of
from nembrit.core.records.units import unit_for
from nembrit.core.types import AXES, FloatArray

_DEG_PER_RAD = 57.29577951308232
_G_M_S2 = 9.80665
_LEAST_SHARE = -0.06
_MOST_SHARE = 1.5  # beyond this a share without a unit is in another scale
_STILL = (nameless.MOVING, 0.5)  # shares of unchanged samples that tell a measured rate from a wanted one
_LEFT_OPEN = 0.5  # a meaning as likely wrong as right is left to the tuner
_UNPROVEN_OPEN, _UNPROVEN = 0.6, ("command.", "term_")  # only a sum or a scale tells these from other things called so
_DECADES = (1e-4, 1e-3, 0.01, 1.0)
_ALIKE = 0.6  # correlation from which two columns are taken for the same movement


@np.errstate(over="ignore", invalid="ignore", divide="ignore")  # whatever numbers a file holds
def propose(raw: RawLog) -> Mapping:
    """A meaning for every column of every table, with confidence and reason. Never raises for odd data."""
    rates_hz = preamble_rates_hz(raw.preamble)
    tables = tuple(_Table(table, raw.preamble, rates_hz).mapped() for table in raw.tables)
    return Mapping(tables=tables, modes=notes_of(raw.preamble).modes)


class _Table(Study):
    """One table whose columns get their meanings."""

    def mapped(self) -> TableMapping:
        first, last = middle_rows(self.table.n_rows)
        for position, (column, guess) in enumerate(zip(self.table.columns, self.guesses, strict=True)):
            if position == self.clock.column or guess.family in ("", "counter"):
                continue
            family_role = guess.role
            if not family_role or family_role == "time":
                continue
            is_text = quantity_of(family_role) == "text"
            if (column.labels is not None) != is_text:
                if not is_text:
                    continue
                family_role = family_role if column.labels is not None or column.samples.dtype.kind == "i" else ""
                if not family_role:
                    continue
            self.drafts[position] = Draft(
                column=column, guess=guess, role=family_role, confidence=guess.confidence, reason=guess.reason
            )
            self.numbers[position] = held(column.numbers(first=first, last=last))
        planes.modes(self)
        planes.phases(self)
        nameless.lettered_rates(self)
        nameless.numbered_runs(self)
        nameless.rates(self)
        self._stated_units()
        planes.loose_units(self)
        planes.wanted_attitudes(self)
        planes.servos(self)
        self._raw_or_filtered()
        nameless.accelerometer(self)
        self._scales()
        planes.stick_families(self)
        nameless.throttle(self)
        nameless.gyros(self)
        nameless.setpoints(self)
        nameless.raw_gyros(self)
        nameless.sticks(self)
        self._follow_setpoints()
        self._attitudes()
        nameless.controller(self)
        planes.lone_motor(self)
        self._terms()
        self._one_each()
        return TableMapping(clock=self.clock, columns=tuple(self._use(k, column) for k, column in enumerate(self.table.columns)))

    def _stated_units(self) -> None:
        for k, draft in self.drafts.items():
            quantity = quantity_of(draft.role) or ""
            if draft.guess.reason == NAMED_BY_ROLE:
                factor = QUANTITIES[quantity].get(draft.column.unit)
                is_plain = quantity == "share" and not draft.column.unit  # a foreign file's word, perhaps in another scale
                if factor is not None and not (is_plain and float(np.abs(self.numbers[k]).max(initial=0.0)) > _MOST_SHARE):
                    draft.factor, draft.has_stated_unit = factor, True
                    continue
            unit = unit_for(draft.column.unit, quantity) if draft.column.unit else None
            if quantity == "velocity" and draft.column.unit.lower() == "ms":
                unit = unit_for("m/s", quantity)
            if unit is None and draft.column.unit and quantity == "speed":
                unit = rotor_unit(draft.column.unit)
            if unit is None and quantity == "share" and unit_for(draft.column.unit, "pulse"):
                continue  # µs of a throttle or stick: the range says where the ends are
            if unit is not None:
                draft.factor, draft.offset, draft.has_stated_unit = unit.factor, unit.offset, True
                draft.confidence = max(draft.confidence, 0.9) if draft.guess.confidence >= 0.7 else draft.confidence
                draft.reason += f"; in {draft.column.unit}"
            elif draft.column.unit and not draft.has_stated_unit and not unit_for(draft.column.unit, "raw"):
                draft.doubt(0.5, f"“{draft.column.unit}” is not a unit of this quantity")

    def _raw_or_filtered(self) -> None:
        """Two gyros of one axis: the rougher one is raw. One alone is what the controller uses."""
        for prefix in ("", "b/"):
            for axis in AXES:
                same = [k for k in self.of("gyro") if self.drafts[k].role == f"{prefix}gyro.{axis}"]
                states = {k: self.drafts[k].guess.state for k in same}
                for k in same:
                    if states[k] == "raw":
                        self.drafts[k].role = f"{prefix}gyro_raw.{axis}"
                unclear = [k for k in same if states[k] == ""]
                others = [k for k in same if states[k] != ""]
                if len(same) == 2 and len(unclear) == 1:
                    if states[others[0]] == "filtered":
                        self.drafts[unclear[0]].role = f"{prefix}gyro_raw.{axis}"
                        self.drafts[unclear[0]].reason += "; the other one is filtered"
                elif len(same) == len(unclear) == 2 and self._wanted_of(same, f"{prefix}setpoint.{axis}") is not None:
                    wanted = self._wanted_of(same, f"{prefix}setpoint.{axis}")
                    assert wanted is not None
                    self.drafts[wanted].role = f"{prefix}setpoint.{axis}"
                    self.drafts[wanted].doubt(0.65, "constant while its partner moves: wanted, not measured")
                elif len(same) == len(unclear) == 2:
                    rough, smooth = sorted(same, key=lambda k: -roughness(self.numbers[k]))
                    self.drafts[rough].role = f"{prefix}gyro_raw.{axis}"
                    self.drafts[rough].doubt(0.7, f"noisier than “{self.drafts[smooth].column.name}”")
                elif len(same) == 3 and not any(draft.role == f"{prefix}setpoint.{axis}" for draft in self.drafts.values()):
                    self._three_rates(sorted(same, key=lambda k: (states[k] != "raw", -roughness(self.numbers[k]))), prefix, axis)

    def _wanted_of(self, pair: list[int], role: str) -> int | None:
        """The one of two rates that stands still most of the time while the other moves, where no set-point is named."""
        if any(draft.role == role for draft in self.drafts.values()):
            return None
        still = sorted((float(np.mean(np.diff(self.numbers[k]) == 0)), k) for k in pair)
        return still[1][1] if still[0][0] < _STILL[0] and still[1][0] > _STILL[1] else None

    def _three_rates(self, ranked: list[int], prefix: str, axis: str) -> None:
        """Three rates of one axis, roughest first: the raw gyro, the filtered one, and what was asked for."""
        still = {k: float(np.mean(np.diff(self.numbers[k]) == 0)) for k in ranked}
        if max(still.values()) > _STILL[1]:  # steps of a set-point can be rough, but it stands still between them
            ranked = sorted(ranked, key=lambda k: k == max(still, key=still.__getitem__))
        for k, family in zip(ranked, ("gyro_raw", "gyro", "wanted"), strict=True):
            self.drafts[k].role = f"{prefix}{'setpoint' if family == 'wanted' else family}.{axis}"
            self.drafts[k].doubt(0.6, "separated from the other two by its noise")

    def _scales(self) -> None:
        """Scales of what states no unit: from the preamble, then from the range of a whole family."""
        for families, scale_of in scales.RANGES:
            members = [k for k in self.of(*families) if not self.drafts[k].has_stated_unit]
            if not members:
                continue
            stated = scale_before(self.preamble, families[0]) or self._own_scale(members, families)
            counted = []
            if stated is not None:  # the scale of a rate is one of raw counts; the ends of motors hold for any numbers
                counted = [k for k in members if families[0] in ("motor", "throttle") or _is_whole(self.numbers[k])]
                for k in counted:
                    self.drafts[k].take(stated)
                    self.drafts[k].has_stated_unit = "gyro" in families
            rest = [k for k in members if k not in counted]
            if rest:
                scale = scale_of(np.concatenate([self.numbers[k] for k in rest]))
                if families == ("motor_rpm",):
                    scale = self._speeds_in_radians(rest) or scale
                for k in rest:
                    self.drafts[k].take(scale)
        for k in self.of("motor", "throttle"):
            lowest = float(np.percentile(self.drafts[k].scaled(self.numbers[k]), 0.5)) if self.numbers[k].size else 0.0
            if lowest < _LEAST_SHARE:
                self.drafts[k].doubt(0.3, f"falls to {lowest:.0%}: power is never negative, a servo’s deflection is")
        accel = [k for k in self.of("accel") if not self.drafts[k].has_stated_unit]
        if len(accel) >= 3:
            norm = float(np.median(np.sqrt(sum(self.numbers[k] ** 2 for k in accel[:3]))))
            stated = scale_before(self.preamble, "accel")
            scale = (
                stated
                if stated and 0.7 < norm * stated.factor / _G_M_S2 < 1.4
                else scales.accel_factor(norm, is_counted=all(_is_whole(self.numbers[k]) for k in accel[:3]))
            )
            for k in accel:
                self.drafts[k].take(scale)
        elif accel:
            for k in accel:
                self.drafts[k].doubt(0.4, "one axis alone cannot show its scale")

    def _own_scale(self, members: list[int], families: tuple[str, ...]) -> scales.Scale | None:
        """A scale before the table that is called by the columns' own word, as “spin lsb” beside “spinRaw”."""
        if "gyro" not in families:
            return None
        words = set.intersection(*(set(tokens_of(self.drafts[k].column.name)) for k in members)) - {"0", "1", "2", "x", "y", "z"}
        for key, value in self.preamble:
            said = tokens_of(key)
            if words & set(said) and {"lsb", "scale", "sens"} & set(said):
                return scale_before((("gyro " + key, value),), "gyro")
        return None

    def _speeds_in_radians(self, members: list[int]) -> scales.Scale | None:
        """Motor speeds are in rad/s where the same file has its rates so and no motor would turn so slowly in rpm."""
        rates = self.of("gyro", "gyro_raw", "setpoint")
        fastest = max(float(self.numbers[k].max(initial=0.0)) for k in members)
        if any({"rps", "rpm", "hz"} & set(tokens_of(self.drafts[k].column.name)) for k in members):
            return None
        if not rates or fastest > 5000 or any(abs(self.drafts[k].factor - _DEG_PER_RAD) > 0.01 for k in rates):
            return None
        return scales.Scale(
            factor=60 / (2 * np.pi), confidence=0.6, reason=f"up to {fastest:.0f}; rates of this file are in rad/s"
        )

    def _follow_setpoints(self) -> None:
        """The gyro follows the set-point: proves axis and scale, shows mirrored axes, and finds raw scales."""
        for prefix in ("", "b/"):
            setpoints = {
                self.drafts[k].role.split(".")[1]: k
                for k in self.of("setpoint")
                if self.drafts[k].role.startswith(f"{prefix}setpoint")
            }
            for family in ("gyro", "gyro_raw"):
                members = {
                    self.drafts[k].role.split(".")[1]: k
                    for k in self.of(family)
                    if self.drafts[k].role.startswith(f"{prefix}{family}.")
                }
                found = {
                    axis: likeness(
                        self.drafts[setpoints[axis]].scaled(self.numbers[setpoints[axis]]),
                        self.drafts[k].scaled(self.numbers[k]),
                        rate_hz=self.rate_hz,
                    )
                    for axis, k in members.items()
                    if axis in setpoints
                }
                good = {axis: pair for axis, pair in found.items() if abs(pair.correlation) >= _ALIKE}
                if not good:
                    continue
                slope = float(np.median([abs(pair.slope) for pair in good.values()]))
                for axis, k in members.items():
                    self._judge_follower(self.drafts[k], self.drafts[setpoints[axis]] if axis in setpoints else None, slope)
                    if axis in good and good[axis].correlation < -_ALIKE:
                        self.drafts[k].factor *= -1
                        self.drafts[k].doubt(0.6, "mirrored compared with the set-point: sign reversed")

    def _judge_follower(self, gyro: Draft, setpoint: Draft | None, slope: float) -> None:
        if 0.7 < slope < 1.4:
            gyro.confidence = max(gyro.confidence, 0.9)
            gyro.reason += f"; follows the set-point ({slope:.2f} of it)"
            if setpoint is not None and not setpoint.has_stated_unit:
                setpoint.confidence = max(setpoint.confidence, 0.8)
        elif not gyro.has_stated_unit and setpoint is not None:
            ratio = _DEG_PER_RAD if 0.7 < slope * _DEG_PER_RAD < 1.4 else 1 / slope
            gyro.factor *= ratio
            gyro.confidence = max(min(gyro.confidence, 0.7), 0.65)
            gyro.reason += f"; scaled by {ratio:.4g} to follow the set-point"
        elif setpoint is not None and not setpoint.has_stated_unit:
            same_counts = abs(setpoint.factor * slope / gyro.factor - 1) < 0.06  # both raw, in one scale
            setpoint.factor = gyro.factor if same_counts else setpoint.factor * slope
            setpoint.doubt(0.65, f"scaled by {slope:.4g}, the gyro's unit being known")
        else:
            gyro.doubt(0.5, f"follows the set-point at {slope:.2g} times its size: wrong scale?")

    def _attitudes(self) -> None:
        """Integrated gyro follows attitude: proves the scale of the one that states no unit."""
        for k in self.of("attitude"):
            draft = self.drafts[k]
            axis = draft.role.split(".")[1]
            gyro = next((j for j in self.of("gyro", "gyro_raw") if self.drafts[j].role.endswith(f".{axis}")), None)
            if gyro is None or axis == "yaw":
                continue
            seconds = max(3, round(self.rate_hz))
            angle = integrated(self.drafts[gyro].scaled(self.numbers[gyro]), rate_hz=self.rate_hz)
            half = likeness(
                _steps(angle, seconds // 2), _steps(draft.scaled(self.numbers[k]), seconds // 2), rate_hz=self.rate_hz
            )
            if abs(half.correlation) < _ALIKE:
                continue
            if 0.75 < abs(half.slope) < 1.33:
                draft.confidence, draft.reason = max(draft.confidence, 0.9), f"{draft.reason}; agrees with the integrated gyro"
            elif not draft.has_stated_unit:
                factor = min((1.0, 0.1, 0.01, _DEG_PER_RAD, 1e-3), key=lambda f: abs(np.log(abs(half.slope) * f)))
                draft.factor *= factor
                draft.reason += f"; scaled by {factor:.4g} to agree with the integrated gyro"
                draft.confidence = max(draft.confidence, 0.75)
            if half.correlation < -_ALIKE:
                draft.factor *= -1
                draft.doubt(0.6, "mirrored compared with the gyro: sign reversed")

    def _terms(self) -> None:
        """Terms and command: their sum proves them; motors show the scale where none is stated."""
        families = ("term_p", "term_i", "term_d", "term_f", "command")
        members = [k for k in self.of(*families) if not self.drafts[k].has_stated_unit]
        if not members:
            return
        motors = [self.drafts[k].scaled(self.numbers[k]) for k in self.of("motor")]
        moving = self._sum_of_terms()
        if len(motors) >= 3 and moving > 0:
            stack = np.stack(motors)
            spread = float(np.sqrt(np.mean((stack - stack.mean(axis=0)) ** 2)))
            usual = self.drafts[self.of("motor")[0]].factor  # one file, one way to write shares
            factor = min(
                sorted({*_DECADES, usual}),
                key=lambda f: abs(np.log(max(moving * f, 1e-12) / max(spread, 1e-12))) - (f == usual and f in _DECADES),
            )
            scale = scales.Scale(factor=factor, confidence=0.7, reason="sized like the motors' differences")
        else:
            most = max(float(np.abs(self.numbers[k]).max(initial=0)) for k in members)
            factor = 1.0 if most <= 1.06 else 0.01 if most <= 106 else 1e-3
            scale = scales.Scale(factor=factor, confidence=0.55, reason=f"up to {most:.4g}")
        for k in members:
            self.drafts[k].take(scale)

    def _sum_of_terms(self) -> float:
        """RMS over roll and pitch of the command, or of the sum of the terms where it is not recorded."""
        sizes = []
        for axis in ("roll", "pitch"):
            found = {self.drafts[k].role: k for k in self.of("term_p", "term_i", "term_d", "term_f", "command")}
            command = found.get(f"command.{axis}")
            terms = [self.numbers[found[f"term_{t}.{axis}"]] for t in "pidf" if f"term_{t}.{axis}" in found]
            if command is not None and len(terms) >= 2:
                total = np.sum(terms, axis=0)
                if np.std(total - self.numbers[command]) < 0.1 * max(np.std(total), 1e-12):
                    for role in (f"command.{axis}", *(f"term_{t}.{axis}" for t in "pidf")):
                        if role in found:
                            self.drafts[found[role]].confidence = max(self.drafts[found[role]].confidence, 0.9)
                            self.drafts[found[role]].reason += "; the terms add up to the command"
            if command is not None or terms:
                whole = self.numbers[command] if command is not None else np.sum(terms, axis=0)
                sizes.append(float(np.std(whole)))
        return float(np.sqrt(np.sum(np.square(sizes)))) if sizes else 0.0

    def _one_each(self) -> None:
        """A role goes to one column; the less certain one keeps its data without a meaning."""
        best: dict[str, int] = {}
        for k, draft in self.drafts.items():
            other = best.get(draft.role)
            if other is None or draft.confidence > self.drafts[other].confidence:
                best[draft.role] = k
        for k, draft in list(self.drafts.items()):
            if best[draft.role] != k:
                rival = self.drafts[best[draft.role]].column.name
                self.drafts[k] = replace(
                    draft, role="", confidence=0.0, reason=f"{draft.reason}; but “{rival}” fits {draft.role} better"
                )

    def _use(self, position: int, column: RawColumn) -> ColumnUse:
        draft = self.drafts.get(position)
        if position == self.clock.column:
            return ColumnUse(name=column.name, unit=column.unit, confidence=self.clock.confidence, reason="the clock")
        if draft is None or not draft.role:
            reason = draft.reason if draft else self.guesses[position].reason
            return ColumnUse(name=column.name, unit=column.unit, reason=reason or "nothing in its name")
        if draft.confidence < (_UNPROVEN_OPEN if draft.role.startswith(_UNPROVEN) else _LEFT_OPEN):
            return ColumnUse(name=column.name, unit=column.unit, reason=f"perhaps {spoken(draft.role)}: {draft.reason}")
        if draft.guess.reason == NAMED_BY_ROLE:
            draft.confidence = max(draft.confidence, 1.0 if draft.has_stated_unit else draft.confidence)
        return ColumnUse(
            name=column.name,
            role=draft.role,
            unit=unit_of(draft.role),
            factor=draft.factor,
            offset=draft.offset,
            confidence=round(min(draft.confidence, 1.0), 2),
            reason=draft.reason,
        )


def _is_whole(values: FloatArray) -> bool:
    return bool(np.all(np.mod(values[:5000], 1) == 0))


def _steps(values: FloatArray, n: int) -> FloatArray:
    """Change over n samples, so that drift does not count."""
    return values[n:] - values[:-n]
