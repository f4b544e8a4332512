"""The type of columns: an array whose type and shape its docstring gives."""

from typing import Any

import numpy as np

Array = np.ndarray[Any, Any]
