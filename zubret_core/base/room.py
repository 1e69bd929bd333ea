"""Room for arrays that may be larger than memory."""

from __future__ import annotations

import os
from tempfile import TemporaryFile

import numpy as np
from numpy.typing import DTypeLike, NDArray

IN_MEMORY = 32 << 20
"""Bytes up to which no file is needed."""


def room(shape: int | tuple[int, ...], dtype: DTypeLike) -> NDArray:
    """An array of zeros; a large one lies in a nameless file, whose pages the system takes back when it needs memory.

    OSError where the disk has too little room: that is found here, not while the array is written.
    """
    size = int(np.prod(shape)) * np.dtype(dtype).itemsize
    if size <= IN_MEMORY:
        return np.zeros(shape, dtype)
    with TemporaryFile() as file:
        if hasattr(os, "posix_fallocate"):
            os.posix_fallocate(file.fileno(), 0, size)
        else:
            for at in range(0, size, 1 << 20):
                file.write(bytes(min(1 << 20, size - at)))
            file.flush()
        return np.asarray(np.memmap(file, dtype, "r+", shape=shape))
