"""Words and numbers of the demo: made up, like the club and its craft."""

JUNIPER_SETTINGS = """\
loop rate = 4000
motor updates = 4000
p on roll = 43
i on roll = 40
d on roll = 35
f on roll = 15
p on pitch = 50
i on pitch = 48
d on pitch = 42
f on pitch = 15
p on yaw = 125
i on yaw = 80
d on yaw = 0
f on yaw = 0
chip smooth hz = 550
smooth gyro hz = 180
notch gyro hz = 0
notch gyro q = 3
smooth d hz = 110
stick roll middle = 160
stick roll full = 560
stick pitch middle = 160
stick pitch full = 560
stick yaw middle = 120
stick yaw full = 420
motor floor % = 6
authority % = 50
hold limit % = 25
beeper = on
lamp = amber
"""

BRAMBLE_SETTINGS = (
    JUNIPER_SETTINGS.replace("p on roll = 43", "p on roll = 24")
    .replace("d on roll = 35", "d on roll = 16")
    .replace("p on pitch = 50", "p on pitch = 27")
    .replace("d on pitch = 42", "d on pitch = 19")
    .replace("p on yaw = 125", "p on yaw = 70")
    .replace("smooth gyro hz = 180", "smooth gyro hz = 240")
    .replace("smooth d hz = 110", "smooth d hz = 150")
)

THISTLE_SETTINGS = """\
p on roll = 18
i on roll = 12
d on roll = 0
f on roll = 60
p on pitch = 20
i on pitch = 14
d on pitch = 0
f on pitch = 62
follow course = 12
home height m = 80
servo middle 1 = 1500
servo middle 2 = 1500
servo middle 3 = 1488
servo middle 4 = 1512
motor floor % = 0
"""

# what Thistle's servos move, and the pulses at which it would fly straight
THISTLE_SURFACES = (
    {"servo": 1, "role": "aileron", "direction": 1},
    {"servo": 2, "role": "aileron", "direction": 1},
    {"servo": 3, "role": "v_tail_left", "direction": 1},
    {"servo": 4, "role": "v_tail_right", "direction": -1},
)
THISTLE_NEUTRAL_US = {"1": 1516.0, "2": 1516.0, "3": 1505.0, "4": 1529.0}

# Bramble's steps by feel: the setting, its new value, how it was decided, and why
BRAMBLE_STEPS = (
    ("p on roll", "29", "keep", "No buzz, no shake, motors cool."),
    ("d on roll", "21", "keep", "Stops cleaner. Motors hand-warm."),
    ("p on roll", "34", "undo", "A buzz after hard moves: back, and P on roll is not raised any more."),
)

# meaning and scale (SI per unit shown) of the names above
NAME_MAP: dict[str, tuple[str, float | None]] = {
    "loop rate": ("loop_rate_hz", 1.0),
    "motor updates": ("output_rate_hz", 1.0),
    **{
        f"{term} on {axis}": (f"gain.rate.{axis}.{term}", scale)
        for axis in ("roll", "pitch", "yaw")
        for term, scale in (("p", 6e-5), ("i", 2.5e-4), ("d", 1.2e-6), ("f", 1e-6))
    },
    "chip smooth hz": ("filter.chip.low.cutoff_hz", 1.0),
    "smooth gyro hz": ("filter.gyro.low.cutoff_hz", 1.0),
    "notch gyro hz": ("filter.gyro.notch.centre_hz", 1.0),
    "notch gyro q": ("filter.gyro.notch.q", 1.0),
    "smooth d hz": ("filter.d_term.low.cutoff_hz", 1.0),
    **{
        f"stick {axis} {word}": (f"rates.{axis}.{key}", 1.0)
        for axis in ("roll", "pitch", "yaw")
        for word, key in (("middle", "half_dps"), ("full", "full_dps"))
    },
    "motor floor %": ("idle", 0.01),
    "authority %": ("output_limit", 0.01),
    "hold limit %": ("integral_limit", 0.01),
}

# the same of a plane: shares of full deflection per deg/s at cruise, degrees of bank for a degree of course
PLANE_NAME_MAP: dict[str, tuple[str, float | None]] = {
    **{f"f on {axis}": (f"gain.rate.{axis}.f", 1.45e-4) for axis in ("roll", "pitch")},
    "p on roll": ("gain.rate.roll.p", 1.2e-4),
    "p on pitch": ("gain.rate.pitch.p", 2.2e-4),
    "follow course": ("gain.navigation.roll.p", 0.1),
    "home height m": ("return.height_m", 1.0),
    **{f"servo middle {n}": ("trim", 1.0) for n in range(1, 5)},
}

# what stands around Harrowmere Common: name, kind, height in metres, places as metres east and north of home
THISTLE_OBSTACLES = (
    ("the old oak", "Point", 22.0, ((12.0, 236.0),)),
    ("wires over the lane", "LineString", 11.0, ((-180.0, 142.0), (170.0, 158.0))),
    ("Mere Wood", "Polygon", 19.0, ((-140.0, 290.0), (-30.0, 305.0), (-22.0, 372.0), (-150.0, 380.0))),
)
