"""What names, numbers and movements say about a column."""

import numpy as np
import pytest

from nembrit.core.formats.registry import read_raw
from nembrit.core.recognise.names import guesses_of
from nembrit.core.recognise.propose import propose
from nembrit.core.records.mapping import ColumnUse
from tests.dialects import _rows
from tests.flying import flown

AXES = ("roll", "pitch", "yaw")


@pytest.mark.parametrize(
    ("names", "roles"),
    [  # three columns of one kind, in many people's words
        ("Drehrate Rollen|Drehrate Nicken|Drehrate Gieren", "gyro.{}"),
        ("vitesse_roulis|vitesse_tangage|vitesse_lacet", "gyro.{}"),
        ("giro alabeo|giro cabeceo|giro guiñada", "gyro.{}"),
        ("velocità angolare rollio|velocità angolare beccheggio|velocità angolare imbardata", "gyro.{}"),
        ("predkosc katowa przechylenie|predkosc katowa pochylenie|predkosc katowa odchylenie", "gyro.{}"),
        ("taxa rolagem medida|taxa arfagem medida|taxa guinada medida", "gyro.{}"),
        ("gyroX|gyroY|gyroZ", "gyro.{}"),
        ("GR|GP|GY", "gyro.{}"),
        ("omega_x|omega_y|omega_z", "gyro.{}"),
        ("body.rate.p|body.rate.q|body.rate.r", "gyro.{}"),
        ("phi_dot|theta_dot|psi_dot", "gyro.{}"),
        ("imu.w.x|imu.w.y|imu.w.z", "gyro.{}"),
        ("gyr blib|gyr blab|gyr blub", "gyro.{}"),  # by their place
        ("Sollrate Rollen|Sollrate Nicken|Sollrate Gieren", "setpoint.{}"),
        ("gewenst_rol|gewenst_stamp|gewenst_gier", "setpoint.{}"),
        ("DES_R|DES_P|DES_Y", "setpoint.{}"),
        ("Roll Rate Target|Pitch Rate Target|Yaw Rate Target", "setpoint.{}"),
        ("manche_roulis|manche_tangage|manche_lacet", "stick.{}"),
        ("ROLL_P|PITCH_P|YAW_P", "term_p.{}"),
        ("PTerm(X)|PTerm(Y)|PTerm(Z)", "term_p.{}"),
        ("Roll Out|Pitch Out|Yaw Out", "command.{}"),
        ("att.roll|att.pitch|att.yaw", "attitude.{}"),
        ("wanted angle roll|wanted angle pitch|wanted angle yaw", "attitude_wanted.{}"),
    ],
)
def test_three_names_are_three_axes(names: str, roles: str) -> None:
    given = tuple(names.split("|"))
    assert [guess.role for guess in guesses_of(given, ("",) * 3)] == [roles.format(axis) for axis in AXES]


@pytest.mark.parametrize(
    ("names", "roles"),
    [
        ("acc[0]|acc[1]|acc[2]", "accel.x|accel.y|accel.z"),
        ("mot[0]|mot[1]|mot[2]|mot[3]", "motor.1|motor.2|motor.3|motor.4"),
        ("M1|M2|M3|M4", "motor.1|motor.2|motor.3|motor.4"),
        ("rpm motor 1|rpm motor 2", "motor_rpm.1|motor_rpm.2"),
        ("RC_R|RC_P|RC_Y|RC_T", "stick.roll|stick.pitch|stick.yaw|throttle"),
        ("Akkuspannung|Strom|Gas", "battery_voltage|battery_current|throttle"),
        ("U_bat|I_bat", "battery_voltage|battery_current"),
        ("lat|lon|alt|ground speed|course", "latitude|longitude|altitude|ground_speed|course"),
        ("gyro temp|baro temperature", "gyro_temperature|baro_temperature"),
        ("heading|wanted heading", "heading|heading_wanted"),
        ("flight mode|event", "mode|event"),
        ("servo 1|servo 2", "servo.1|servo.2"),
        ("gyro.roll|b/gyro.roll", "gyro.roll|b/gyro.roll"),
        ("lamp|horn", "|"),
    ],
)
def test_names_say_what_they_are(names: str, roles: str) -> None:
    given = tuple(names.split("|"))
    assert [guess.role for guess in guesses_of(given, ("",) * len(given))] == roles.split("|")


def uses(**columns: np.ndarray) -> dict[str, ColumnUse]:
    """Proposals for a table of a flight, by name; names are given with blanks as underscores."""
    flight = flown(5)
    table = {"time s": flight.t_s, **{name.replace("_", " "): values for name, values in columns.items()}}
    body = _rows(list(table.values()), ["%.6f"] * len(table), separator=",")
    raw = read_raw((",".join(table) + "\n" + body).encode())
    return {use.name: use for use in propose(raw).tables[0].columns}


class TestMovement:
    """What columns say about one another, on a simulated flight."""

    flight = flown(5).channels

    def test_a_mirrored_gyro_is_turned_with_doubt(self) -> None:
        found = uses(setpoint_roll=self.flight["setpoint.roll"], gyro_roll=-self.flight["gyro.roll"])["gyro roll"]
        assert (found.factor, found.confidence <= 0.6) == (-1.0, True)
        assert "mirrored" in found.reason

    def test_raw_numbers_are_scaled_by_the_set_point(self) -> None:
        found = uses(setpoint_roll=self.flight["setpoint.roll"], gyro_roll=self.flight["gyro.roll"] * 131)["gyro roll"]
        assert found.factor == pytest.approx(1 / 131, rel=0.03)
        assert "to follow the set-point" in found.reason

    def test_the_rougher_of_two_gyros_is_the_raw_one(self) -> None:
        found = uses(gyro_roll=self.flight["gyro.roll"], gyro_roll_a=self.flight["gyro_raw.roll"])
        assert (found["gyro roll"].role, found["gyro roll a"].role) == ("gyro.roll", "gyro_raw.roll")

    def test_an_attitude_in_tenths_agrees_with_the_integrated_gyro(self) -> None:
        angle_deg = np.cumsum(self.flight["gyro.roll"]) / 2000
        found = uses(gyro_roll=self.flight["gyro.roll"], attitude_roll=angle_deg * 10)["attitude roll"]
        assert found.factor == pytest.approx(0.1)
        assert "agree" in found.reason

    def test_terms_that_add_up_to_the_command_are_believed(self) -> None:
        terms = {f"{t}_term_{axis}": self.flight[f"term_{t}.{axis}"] * 1000 for t in "pidf" for axis in ("roll", "pitch")}
        commands = {f"command_{axis}": self.flight[f"command.{axis}"] * 1000 for axis in ("roll", "pitch")}
        motors = {f"motor_{k}": self.flight[f"motor.{k}"] for k in range(1, 7)}
        found = uses(**terms, **commands, **motors)
        assert found["command roll"].factor == pytest.approx(1e-3)
        assert "the terms add up to the command" in found["p term roll"].reason

    def test_numbered_columns_that_move_together_are_motors_and_what_goes_with_them_the_throttle(self) -> None:
        runs = {f"blob_{k}": self.flight[f"motor.{k}"] for k in range(1, 7)}
        found = uses(**runs, knob=self.flight["throttle"], noise=np.random.default_rng(1).uniform(0, 1, 60_000))
        assert [found[f"blob {k}"].role for k in range(1, 7)] == [f"motor.{k}" for k in range(1, 7)]
        assert (found["knob"].role, found["noise"].role) == ("throttle", None)

    def test_a_nameless_column_that_follows_the_set_point_is_the_gyro(self) -> None:
        found = uses(setpoint_roll=self.flight["setpoint.roll"], thing=self.flight["gyro.roll"], other=self.flight["gyro.yaw"])
        assert (found["thing"].role, found["other"].role) == ("gyro.roll", None)

    @pytest.mark.parametrize(("unit", "role"), [("", None), (" [m/s2]", "accel.x")])
    def test_what_is_as_likely_wrong_as_right_is_left_open(self, unit: str, role: str | None) -> None:
        found = uses(**{f"roll_accel{unit}": np.full(60_000, 3.0)})
        use = next(use for name, use in found.items() if name.startswith("roll"))
        assert (use.role, role is not None or "perhaps" in use.reason) == (role, True)

    def test_one_role_goes_to_one_column(self) -> None:
        found = uses(throttle=self.flight["throttle"], thr=self.flight["throttle"])
        assert sorted(str(use.role) for use in found.values() if not use.name.startswith("time")) == ["None", "throttle"]


KNOWN = {
    "gyro": "gyro {x}", "gyro_raw": "gyro raw {x}", "setpoint": "target rate {x}", "term_p": "{a} P term", "term_i": "{a} I term",
    "term_d": "{a} D term", "command": "{a} pid sum", "motor": "motor {m}", "motor_rpm": "rpm {m}",
}  # fmt: skip


def _written(nonsense: str, name: str) -> tuple[list[str], list[str], bytes]:
    """Headers, their roles and a file in which one family has a name that says nothing."""
    channels, t_s = flown(5).channels, flown(5).t_s
    headers, roles, columns = ["time (s)"], [""], [t_s]
    for family, known in KNOWN.items():
        pattern = name if family == nonsense else known
        parts = list(zip(AXES, "xyz", strict=True)) if "motor" not in family else [(str(k), "") for k in range(1, 7)]
        for part, letter in parts:
            headers.append(pattern.format(x=letter, a=part, m=part))
            roles.append(f"{family}.{part}")
            columns.append(channels[f"{family}.{part}"])
    body = _rows([column[::4] for column in columns], ["%.4f"] * len(columns), separator=",")
    return headers, roles, (",".join(headers) + "\n" + body).encode()


@pytest.mark.parametrize(
    ("family", "name", "most_confidence"),
    [
        ("setpoint", "blau {x}", 0.8),
        ("gyro_raw", "gelb {x}", 0.9),
        ("term_p", "zug {x}", 0.9),
        ("command", "lot {x}", 0.9),
        ("motor_rpm", "wirbel {m}", 0.75),
        ("motor", "blatt {m}", 0.75),
    ],
)
def test_how_columns_move_tells_what_names_do_not(family: str, name: str, most_confidence: float) -> None:
    headers, roles, content = _written(family, name)
    (table,) = propose(read_raw(content)).tables
    for header, role, use in zip(headers[1:], roles[1:], table.columns[1:], strict=True):
        if role.startswith(f"{family}."):
            assert (header, use.role, use.factor) == (header, role, 1.0)
            assert 0.4 < use.confidence <= most_confidence  # to be looked at: nobody said so
        else:
            assert (header, use.role) == (header, role)


@pytest.mark.parametrize(
    ("names", "unit", "roles"),
    [  # alike but for the letter of a term
        ("ctl{t}[{n}]", "", ("p", "i", "d")),
        ("{t}_{a}", "", ("p", "i")),
        ("axis{n} part {t}", "%", ("p", "i", "d", "ff")),
    ],
)
def test_letters_beside_their_fellows_are_terms(names: str, unit: str, roles: tuple[str, ...]) -> None:
    given = [names.format(t=term.upper() if "[" in names else term, n=n, a=axis) for term in roles for n, axis in enumerate(AXES)]
    wanted = [f"term_{'f' if term == 'ff' else term}.{axis}" for term in roles for axis in AXES]
    assert [guess.role for guess in guesses_of(tuple(given), (unit,) * len(given))] == wanted


@pytest.mark.parametrize(
    ("names", "units", "roles"),
    [
        (("aileron", "elevator", "rudder"), ("us",) * 3, ["servo.1", "servo.2", "servo.3"]),
        (("servo 1", "rudder"), ("us",) * 2, ["servo.1", "servo.2"]),
        (("T_imu", "T_baro", "T_air"), ("degC",) * 3, ["gyro_temperature", "baro_temperature", ""]),
        (
            ("aceleracao_x", "aceleracao_y", "aceleracao_z", "acelerador"), ("m/s2",) * 3 + ("%",),
            ["accel.x", "accel.y", "accel.z", "throttle"],
        ),
        (("n1", "n2", "n3"), ("rpm",) * 3, ["motor_rpm.1", "motor_rpm.2", "motor_rpm.3"]),
        (("bank", "heading"), ("deg", "deg"), ["attitude.roll", "heading"]),
    ],
)  # fmt: skip
def test_units_tell_what_a_word_alone_does_not(names: tuple[str, ...], units: tuple[str, ...], roles: list[str]) -> None:
    assert [guess.role for guess in guesses_of(names, units)] == roles


@pytest.mark.parametrize("scale", [1.0, np.pi / 180], ids=["degrees", "radians"])
@pytest.mark.parametrize("head", ["{}", "# flight 3\n# {}", "; made by hand\n%{}", "// {}\n# s,x,x,x,x,x,x,share,,,,,,"])
def test_rates_by_the_letters_of_flight_mechanics_and_names_in_a_comment(head: str, scale: float) -> None:
    """ISO 1151 calls the rates p, q and r; what they follow is their set-point, whatever it is called."""
    c = flown(5).channels
    columns = {"time": flown(5).t_s} | {letter: scale * c[f"gyro.{axis}"] for letter, axis in zip("pqr", AXES, strict=True)}
    columns |= {f"{letter}_cmd": scale * c[f"setpoint.{axis}"] for letter, axis in zip("pqr", AXES, strict=True)}
    columns |= {"thr": c["throttle"]} | {f"u{k}": c[f"motor.{k}"] for k in range(1, 7)}
    rows = _rows([column[:30_000] for column in columns.values()], ["%.5f"] * len(columns), separator=",")
    raw = read_raw(f"{head.format(','.join(columns))}\n{rows}".encode())
    uses = dict(zip(columns, propose(raw).tables[0].columns, strict=True))
    roles = {letter: f"gyro.{axis}" for letter, axis in zip("pqr", AXES, strict=True)}
    roles |= {f"{letter}_cmd": f"setpoint.{axis}" for letter, axis in zip("pqr", AXES, strict=True)}
    assert {name: uses[name].role for name in roles} == roles
    assert [uses[name].factor for name in roles] == pytest.approx([1 / scale] * 6)
