"""Types shared by all of the core."""

from typing import Any

import numpy as np
import numpy.typing as npt

FloatArray = npt.NDArray[np.float64]
BoolArray = npt.NDArray[np.bool_]
ComplexArray = npt.NDArray[np.complex128]
IntArray = npt.NDArray[np.int64]
AnyArray = npt.NDArray[Any]

AXES = ("roll", "pitch", "yaw")
