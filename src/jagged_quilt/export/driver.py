"""An OpenGL driver without a window."""

from __future__ import annotations

import ctypes
import os
from typing import Any, TypeAlias

import numpy as np

from jagged_quilt.arrays.mips import level_count
from jagged_quilt.arrays.texture_arrays import TextureArrays
from jagged_quilt.foundation.errors import QuiltError
from jagged_quilt.foundation.json_types import Facts, Stored

_ARRAY, _UNIT_0, _RGBA = 0x8C1A, 0x84C0, 0x1908
_BYTES, _FLOAT, _RGBA8, _SRGB8, _RGBA32F = 0x1401, 0x1406, 0x8058, 0x8C43, 0x8814
_MIN, _MAG, NEAREST, _LINEAR, _LINEAR_MIPS = 0x2801, 0x2800, 0x2600, 0x2601, 0x2703


OnDevice: TypeAlias = Any  # a context, a buffer, a framebuffer of moderngl, which is imported where it is used


class Driver:
    """An OpenGL 3.3 driver without a window, for one thread; use it in a `with`.

    Attributes
    ----------
    name : str
        What the driver calls the device.

    Raises
    ------
    QuiltError
        If there is none, or moderngl is not installed.
    """

    def __init__(self) -> None:
        os.environ.setdefault("GALLIVM_PERF", "no_aos_sampling")  # or a software driver filters in eight bits
        try:
            import moderngl
        except ImportError as error:
            raise QuiltError('an OpenGL driver is asked by moderngl: pip install "jagged-quilt[gpu]"') from error
        try:
            how: Facts = {"backend": "egl", "require": 330}
            self.context: OnDevice = moderngl.create_context(standalone=True, **how)
        except Exception as error:  # whatever a machine lacks
            raise QuiltError(
                f"there is no OpenGL driver without a window ({error}); on Debian: libegl1 libgl1-mesa-dri"
            ) from error
        self.name = str(self.context.info["GL_RENDERER"])

    def __enter__(self) -> Driver:
        return self

    def __exit__(self, *rest: object) -> None:
        self.context.release()

    def call(self, name: str, *given: Any) -> None:
        """Call what moderngl has no name for."""
        find = ctypes.CDLL("libEGL.so.1").eglGetProcAddress
        find.restype = ctypes.c_void_p
        kinds = [ctypes.c_void_p if isinstance(each, ctypes.c_void_p) else ctypes.c_int for each in given]
        ctypes.CFUNCTYPE(None, *kinds)(find(f"gl{name}".encode()))(*given)

    def texture_array(self, arrays: TextureArrays, name: str, *, exact: bool) -> int:
        """Return the number of a texture array with its mips, as the file of an array holds it.

        exact : without filters, the mips as further slices, as a shader reads it that filters by itself.
        """
        number = [each.name for each in arrays.layouts].index(name)
        layout, store, count = arrays.layouts[number], arrays.stores[number], arrays.slice_count(name)
        side, levels = arrays.side, list[Stored]()
        for level in range(level_count(side)):
            levels.append(of_four(np.stack([store.texels(level, which) for which in range(count)])))
        if exact:
            slices = np.zeros((len(levels) * count, side, side, 4), levels[0].dtype)
            for level, texels in enumerate(levels):
                slices[level * count : (level + 1) * count, : texels.shape[1], : texels.shape[2]] = texels
            levels, count = [slices], len(slices)
        made, floats = ctypes.c_uint(), levels[0].dtype != np.uint8
        self.call("GenTextures", 1, ctypes.cast(ctypes.byref(made), ctypes.c_void_p))
        self.call("BindTexture", _ARRAY, made.value)
        stored = _RGBA32F if floats else _SRGB8 if layout.srgb and not exact else _RGBA8
        self.call("TexStorage3D", _ARRAY, len(levels), stored, side, side, count)
        for level, texels in enumerate(levels):
            rows, columns = texels.shape[1:3]
            data = np.ascontiguousarray(texels)
            kind = _FLOAT if floats else _BYTES
            data_at = data.ctypes.data_as(ctypes.c_void_p)
            self.call("TexSubImage3D", _ARRAY, level, 0, 0, 0, columns, rows, count, _RGBA, kind, data_at)
        for what, how in ((_MIN, NEAREST if exact else _LINEAR_MIPS), (_MAG, NEAREST if exact else _LINEAR)):
            self.call("TexParameteri", _ARRAY, what, how)
        return made.value

    def bind_array(self, unit: int, texture: int) -> None:
        """Let a unit hold a texture array."""
        self.call("ActiveTexture", _UNIT_0 + unit)
        self.call("BindTexture", _ARRAY, texture)

    def delete(self, texture: int) -> None:
        """Free a texture array."""
        number = ctypes.c_uint(texture)
        self.call("DeleteTextures", 1, ctypes.cast(ctypes.byref(number), ctypes.c_void_p))


def of_four(texels: Stored) -> Stored:
    """Return texels with four channels, white where they have less, as bytes or as floats."""
    if texels.dtype != np.uint8:
        texels = texels.astype(np.float32) / (65535 if texels.dtype == np.uint16 else 1)
    white = np.full((*texels.shape[:-1], 4 - texels.shape[-1]), 255 if texels.dtype == np.uint8 else 1, texels.dtype)
    return np.concatenate([texels, white], axis=-1)
