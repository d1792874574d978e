"""Which repair ends which fault of a simulated craft: the stand-in for what a mechanic's hands do."""

from collections.abc import Mapping
from typing import Any

# words of a repair that end a fault
_CURES = {
    "loose_mount": ("tray", "mount", "foam", "screw", "pad", "strap"),
    "propeller_motor": ("propeller", "prop"),
    "bearing_motor": ("bearing", "motor"),
    "resonance_factor": ("frame", "arm", "stiff"),
    "spike_axis": ("capacitor", "board", "wiring", "plug"),
    "noisy_axis": ("board", "gyro"),
}


def faults_after(faults: Mapping[str, Any], words: str) -> dict[str, Any]:
    """What a craft still suffers from after a repair described in these words.

    >>> faults_after({"loose_mount": 1.0, "spike_axis": "roll"}, "New foam under the tray")
    {'spike_axis': 'roll'}
    """
    low = words.lower()
    return {fault: size for fault, size in faults.items() if not any(word in low for word in _CURES.get(fault, ()))}
