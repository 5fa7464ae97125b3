"""Block codes: 4 x 4 texels in 8 or 16 bytes, as graphics hardware reads them (BC1, BC3, BC4, BC5, BC7).

Single channels are fitted by our own kernel, colour by etcpak; blocks are read back by OpenImageIO, as a DDS file.
"""

from __future__ import annotations

import struct
import tempfile
import threading

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.codecs.pixel_formats import PixelFormat
from jagged_quilt.foundation.errors import ShapeError
from jagged_quilt.foundation.json_types import Stored
from jagged_quilt.foundation.kernels import kernels_of

_kernels = kernels_of("jagged_quilt.codecs._kernels")

_DXGI = {PixelFormat.BC1: 71, PixelFormat.BC3: 77, PixelFormat.BC4: 80, PixelFormat.BC5: 83, PixelFormat.BC7: 98}
_one_at_a_time = threading.Lock()  # etcpak keeps tables of its own


def encoded_blocks(values: NDArray[np.float32], pixels: PixelFormat) -> NDArray[np.uint8]:
    """Return the blocks of one image as bytes, row by row of blocks.

    Parameters
    ----------
    values : (H, W, C) float32
        0..255 as they are to be stored; C is 1 for BC4, 2 for BC5, 4 else. Sides that are no multiple of 4 are filled by
        repeating the border.
    """
    height, width, channels = values.shape
    if channels != {PixelFormat.BC4: 1, PixelFormat.BC5: 2}.get(pixels, 4):
        raise ShapeError(f"{pixels.key} takes another number of channels than {channels}")
    if height % 4 or width % 4:
        values = np.pad(values, ((0, -height % 4), (0, -width % 4), (0, 0)), mode="edge")
    if pixels in (PixelFormat.BC4, PixelFormat.BC5):
        return np.concatenate([_single(values[..., c]) for c in range(channels)], axis=1).reshape(-1)
    import etcpak

    whole = np.rint(np.clip(values, 0, 255)).astype(np.uint8)
    rows, columns = whole.shape[:2]
    if pixels is PixelFormat.BC7:
        with _one_at_a_time:
            how = etcpak.BC7CompressBlockParams()
            how.init_linear_weights()
            how.m_uber_level = 1
            return np.frombuffer(etcpak.compress_bc7(whole.tobytes(), columns, rows, how), np.uint8)
    whole[..., 3] = 255
    colour = np.frombuffer(etcpak.compress_bc1(whole.tobytes(), columns, rows), np.uint8).reshape(-1, 8)
    if pixels is PixelFormat.BC1:
        return colour.reshape(-1)
    return np.concatenate([_single(values[..., 3]), colour], axis=1).reshape(-1)


def _single(values: NDArray[np.float32]) -> NDArray[np.uint8]:
    rows, columns = values.shape
    out = np.empty((rows // 4 * (columns // 4), 8), np.uint8)
    _kernels.fit_blocks(np.ascontiguousarray(values, np.float32), np.empty((3, 16), np.float32), out)
    return out


def decoded_blocks(data: bytes, pixels: PixelFormat, rows: int, columns: int) -> Stored:
    """Return (rows, columns, C) uint8 from blocks; raise `ValueError` if they cannot be read."""
    import OpenImageIO as oiio

    flags, caps, four = 0x81007, 0x1000, 4  # a compressed texture that gives its size
    front = struct.pack(
        "<4s7I44x2I4s5I5I",
        b"DDS ",
        124,
        flags,
        rows,
        columns,
        len(data),
        0,
        1,
        32,
        four,
        b"DX10",
        0,
        0,
        0,
        0,
        0,
        caps,
        0,
        0,
        0,
        0,
    ) + struct.pack("<5I", _DXGI[pixels], 3, 0, 1, 0)
    with tempfile.NamedTemporaryFile(suffix=".dds") as file:
        file.write(front)
        file.write(data)
        file.flush()
        source = oiio.ImageInput.open(file.name)
        if source is None:
            raise ValueError(f"its blocks cannot be read: {oiio.geterror()}")
        texels = source.read_image(0, 0, 0, source.spec().nchannels, oiio.UINT8)
        trouble = source.geterror()
        source.close()
    if texels is None or trouble:
        raise ValueError(f"its blocks cannot be read: {trouble}")
    return np.ascontiguousarray(texels).reshape(rows, columns, -1)
