"""The blend in plain NumPy, float32, as one would write it for speed: the yardstick of `blend.py`."""

from __future__ import annotations

import numpy as np

from jagged_quilt.foundation.colour import linear_from_srgb, srgb_from_linear

PLANE_CUT, HEIGHT_FLOOR, FLATTEST = np.float32(0.02), np.float32(0.1), np.float32(1 / 128)


class NumpyBlend:
    """Triplanar layers of two arrays (diffuse + height, normal + roughness + occlusion), full-size level, bilinear."""

    def __init__(self, arrays, layers):
        rows, self.side = len(arrays.names) * arrays.side, arrays.side
        texels = arrays.open(arrays.names).texels[: rows * (self.side + 1)]  # each row ends with its first texel once more
        self.texels = [texels[:, a].reshape(rows, self.side + 1)[:, :-1].ravel() for a in range(2)]
        self.decode = linear_from_srgb(np.arange(256, dtype=np.float32) / 255)
        slices = [arrays.index_of(layer.swatch) for layer in layers]
        self.slices = np.array(slices)
        self.inverse_tile = np.array([1 / arrays.tiles[s] for s in slices], np.float32)
        self.relief = np.array([arrays.reliefs[s] / max(arrays.reliefs) for s in slices], np.float32)
        self.hardness = np.array([(1 - layer.softness) / layer.softness for layer in layers], np.float32)
        self.sharpness = np.float32(layers[0].projection.sharpness)

    def blend(self, points, layer, weight):
        """Return diffuse, normal (tangent space), roughness, occlusion and height as bytes, for N points."""
        count, kept = weight.shape
        n = points.normal
        share = np.abs(n) ** self.sharpness
        share = np.maximum(share - PLANE_CUT * share.sum(1, keepdims=True), 0)
        share /= share.sum(1, keepdims=True)
        p, k, plane = np.nonzero((weight > 0)[:, :, None] & (share > 0)[:, None, :])
        x, y, z = points.position.T
        s = np.where(n >= 0, np.float32(1), np.float32(-1))
        us = np.stack([-s[:, 0] * z, x, s[:, 2] * x], 1)
        vs = np.stack([-y, s[:, 1] * z, -y], 1)
        which = layer[p, k]
        u = us[p, plane] * self.inverse_tile[which]
        v = vs[p, plane] * self.inverse_tile[which]
        taps = self._taps(u - np.floor(u), v - np.floor(v), self.slices[which])
        mine = share[p, plane]
        entry = p * kept + k

        red, green, blue, height = self._sample(0, taps, colour=True)
        tall = np.bincount(entry, mine * height, count * kept).reshape(count, kept).astype(np.float32)
        tallness = weight * (self.relief[layer] * tall + HEIGHT_FLOOR)
        short = 1 - tallness / tallness.max(1, keepdims=True)
        kept_weight = weight * np.maximum(0, 1 - self.hardness[layer] * short)
        several = (weight > 0).sum(1) > 1
        kept_weight = np.where(several[:, None], kept_weight / kept_weight.sum(1, keepdims=True), weight)
        w = mine * kept_weight[p, k]

        shown = np.nonzero(w > 0)[0]
        p, plane, w, which = p[shown], plane[shown], w[shown], which[shown]
        nx, ny, rough, occlusion = self._sample(1, [(i[shown], f[shown]) for i, f in taps], colour=False)
        dx, dy = 2 * nx - 1, 2 * ny - 1
        slope = w / np.maximum(np.sqrt(np.maximum(0, 1 - dx * dx - dy * dy)), FLATTEST)
        dx, dy = dx * slope, dy * slope

        def total(values):
            return np.bincount(p, w * values, count).astype(np.float32)

        diffuse = np.stack([total(c[shown]) for c in (red, green, blue)], 1)
        # To the right on the planes X, Y and Z is -z, x, x (by side), upwards y, -z (by side), y.
        side = s[p, plane]
        is_x, is_y = plane == 0, plane == 1
        east = np.where(is_x, 0, np.where(is_y, dx, side * dx))
        up = np.where(is_y, 0, dy)
        south = np.where(is_x, -side * dx, np.where(is_y, -side * dy, 0))
        tilt = np.stack([np.bincount(p, c, count).astype(np.float32) for c in (east, up, south)], 1)
        world = n + tilt - n * (tilt * n).sum(1, keepdims=True)
        t = points.tangent[:, :3]
        b = np.cross(n, t) * points.tangent[:, 3:]
        normal = np.stack([(world * t).sum(1), (world * b).sum(1), (world * n).sum(1)], 1)
        normal /= np.linalg.norm(normal, axis=1, keepdims=True)
        return (
            _bytes(srgb_from_linear(diffuse)),
            _bytes(normal * np.float32(0.5) + np.float32(0.5)),
            _bytes(total(rough)),
            _bytes(total(occlusion)),
            total(self.relief[which] * height[shown]),
        )

    def _taps(self, u, v, slices):
        x, y = u * np.float32(self.side) - np.float32(0.5), v * np.float32(self.side) - np.float32(0.5)
        x_floor, y_floor = np.floor(x), np.floor(y)
        fx, fy = x - x_floor, y - y_floor
        mask = self.side - 1
        x0, y0 = x_floor.astype(np.int32) & mask, y_floor.astype(np.int32) & mask
        x1, y1 = (x0 + 1) & mask, (y0 + 1) & mask
        start = slices * (self.side * self.side)
        top, bottom = start + y0 * self.side, start + y1 * self.side
        return [
            (top + x0, (1 - fx) * (1 - fy)),
            (top + x1, fx * (1 - fy)),
            (bottom + x0, (1 - fx) * fy),
            (bottom + x1, fx * fy),
        ]

    def _sample(self, array, taps, colour):
        out = [0, 0, 0, 0]
        for index, share in taps:
            rgba = self.texels[array][index].view(np.uint8).reshape(-1, 4)
            for channel in range(4):
                stored = rgba[:, channel]
                plain = self.decode[stored] if colour and channel < 3 else stored * np.float32(1 / 255)
                out[channel] = out[channel] + share * plain
        return out


def _bytes(values):
    return np.rint(np.clip(values, 0, 1) * 255).astype(np.uint8)
