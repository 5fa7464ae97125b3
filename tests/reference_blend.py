"""The blend in float64, written plainly, one place and one plane after the other: what the kernel must agree with."""

import numpy as np

import jagged_quilt as jq

AXES = {  # plane: (tangent, up in the image, outward), for an outward sign of +1 and of -1
    (0, 1): ((0, 0, -1), (0, 1, 0), (1, 0, 0)),
    (0, -1): ((0, 0, 1), (0, 1, 0), (-1, 0, 0)),
    (1, 1): ((1, 0, 0), (0, 0, -1), (0, 1, 0)),
    (1, -1): ((1, 0, 0), (0, 0, 1), (0, -1, 0)),
    (2, 1): ((1, 0, 0), (0, 1, 0), (0, 0, 1)),
    (2, -1): ((-1, 0, 0), (0, 1, 0), (0, 0, -1)),
}


def linear(encoded):
    return np.where(encoded <= 0.04045, encoded / 12.92, ((encoded + 0.055) / 1.055) ** 2.4)


def encoded(plain):
    plain = np.clip(plain, 0, 1)
    return np.where(plain <= 0.0031308, plain * 12.92, 1.055 * plain ** (1 / 2.4) - 0.055)


def bilinear(level, u, v):
    """(S, S, C) at one u, v, repeating."""
    side = level.shape[0]
    x, y = u * side - 0.5, v * side - 0.5
    x0, y0 = int(np.floor(x)), int(np.floor(y))
    fx, fy = x - x0, y - y0
    row0, row1, c0, c1 = y0 % side, (y0 + 1) % side, x0 % side, (x0 + 1) % side
    top = level[row0, c0] * (1 - fx) + level[row0, c1] * fx
    bottom = level[row1, c0] * (1 - fx) + level[row1, c1] * fx
    return top * (1 - fy) + bottom * fy


class Decoded:
    """Every channel of every level of the arrays as float64, colour as linear light."""

    def __init__(self, arrays):
        self.channels = {}
        self.levels = []
        for level in range(arrays.side.bit_length()):
            stacked = []
            for layout in arrays.layouts:
                plain = arrays.level(layout.name, level) / 255.0
                if layout.srgb:
                    plain = np.concatenate([linear(plain[..., :3]), plain[..., 3:]], axis=-1)
                stacked.append(plain)
            self.levels.append(np.concatenate(stacked, axis=-1))
        for row, layout in enumerate(arrays.layouts):
            for channel, content in enumerate(layout.channels):
                if content.role is not None:
                    self.channels[content.role, content.component] = 4 * row + channel

    def value(self, sample, role, component=0):
        where = self.channels.get((role, component))
        return role.value.neutral[component] if where is None else sample[where]


def shortest_turn(start, end):
    """The rotation matrix that takes one unit vector to another along the shortest arc (Rodrigues)."""
    axis = np.cross(start, end)
    cross = np.array([[0, -axis[2], axis[1]], [axis[2], 0, -axis[0]], [-axis[1], axis[0], 0]])
    return np.eye(3) + cross + cross @ cross / (1 + start @ end)


def blend_point(decoded, arrays, layers, position, normal, tangent, footprint, index, weight, filter, world):
    """One texel: a dict of role to linear values."""
    R = jq.MapRole
    tallest_relief = max(arrays.reliefs[arrays.names.index(layer.swatch)] for layer in layers)
    bitangent = np.cross(normal, tangent[:3]) * tangent[3]
    places = []
    for which, w in zip(index, weight, strict=True):
        if w <= 0:
            continue
        layer = layers[which]
        slot = arrays.names.index(layer.swatch)
        tile, relief = arrays.tiles[slot], arrays.reliefs[slot] / tallest_relief
        if isinstance(layer.projection, jq.Triplanar):
            share = np.abs(normal) ** layer.projection.sharpness
            share = np.maximum(share - 0.02 * share.sum(), 0)
            share = share / share.sum()
        else:
            share = np.array([0.0, 1.0, 0.0])
        samples = []
        for plane in range(3):
            if share[plane] <= 0:
                continue
            sign = 1 if normal[plane] >= 0 else -1
            right, up, out = (np.array(a, float) for a in AXES[plane, sign])
            u, v = position @ right / tile, -(position @ up) / tile
            if plane == 1:  # seen from above or below: v runs south, or north
                v = position[2] * sign / tile
            along_t = footprint[0] * np.sqrt(max(0, 1 - tangent[plane] ** 2))
            along_b = footprint[1] * np.sqrt(max(0, 1 - bitangent[plane] ** 2))
            mip = 0.0
            if filter == "trilinear":
                mip = np.clip(np.log2(max(along_t, along_b, 1e-10) * arrays.side / tile), 0, len(decoded.levels) - 1)
            whole = min(int(mip), max(0, len(decoded.levels) - 2))
            for level, part in ((whole, 1 - (mip - whole)), (whole + 1, mip - whole)):
                if part > 0:
                    sample = bilinear(decoded.levels[level][slot], u, v)
                    samples.append((share[plane] * part, sample, (right, up, out)))
        height = sum(s * decoded.value(x, R.HEIGHT) for s, x, _ in samples) * relief
        places.append((w, height, relief, (1 - layer.softness) / max(layer.softness, 1e-6), samples))
    tallness = [w * (height + 0.1) for w, height, *_ in places]
    kept = [p[0] * max(0, 1 - p[3] * (1 - t / max(tallness))) for p, t in zip(places, tallness, strict=True)]
    kept = np.array(kept) / sum(kept)

    total = {role: np.zeros(role.value.channels) for role in jq.SURFACE_ROLES}
    detail = np.zeros(3)
    for k, (_, _, relief, _, samples) in zip(kept, places, strict=True):
        for s, x, (right, up, out) in samples:
            for role in (R.DIFFUSE, R.ROUGHNESS, R.SPECULAR, R.OCCLUSION):
                total[role] += k * s * np.array([decoded.value(x, role, c) for c in range(role.value.channels)])
            total[R.HEIGHT] += k * s * relief * decoded.value(x, R.HEIGHT)
            nx, ny = (2 * decoded.value(x, R.NORMAL, c) - 1 for c in (0, 1)) if (R.NORMAL, 0) in decoded.channels else (0, 0)
            nz = np.sqrt(max(0, 1 - nx * nx - ny * ny))
            detail += k * s * shortest_turn(out, normal) @ (nx * right + ny * up + nz * out)
    detail /= np.linalg.norm(detail)
    total[R.NORMAL] = detail if world else np.array([detail @ tangent[:3], detail @ bitangent, detail @ normal])
    return total


def stored(total):
    """A blended texel as it is stored: the exact value before rounding, on the 8-bit scale."""
    R = jq.MapRole
    out = {role: 255 * np.clip(total[role], 0, 1) for role in jq.SURFACE_ROLES}
    for role in (R.DIFFUSE, R.SPECULAR):
        out[role] = 255 * encoded(total[role])
    out[R.NORMAL] = 255 * (0.5 * total[R.NORMAL] + 0.5)
    return out
