"""The ground north of Harrowmere Common, made up: a common, a lane, a ridge, and the ground falling away behind it."""

import math


def profile_csv() -> str:
    """Distance and height above sea level in metres, every 25 m over 4 km."""
    rows = []
    for distance in range(0, 4001, 25):
        ridge = 46.0 * math.exp(-(((distance - 1450) / 260.0) ** 2))
        falling = -38.0 / (1 + math.exp(-(distance - 2100) / 180.0))
        rolling = 3.0 * math.sin(distance / 310.0) + 1.5 * math.sin(distance / 97.0)
        rows.append(f"{distance},{112.0 + ridge + falling + rolling:.1f}")
    return "distance_m,ground_m\n" + "\n".join(rows) + "\n"
