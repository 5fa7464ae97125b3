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


def folded(i, side, wrap):
    if wrap == "clamp":
        return min(max(i, 0), side - 1)
    if wrap == "mirror":
        i %= 2 * side
        return i if i < side else 2 * side - 1 - i
    return i % side


def read_at(level, u, v, wraps=("repeat", "repeat"), nearest=False):
    """(S, S, C) at one u, v, between four texels or of the nearest."""
    side = level.shape[0]
    x, y = (turns * side - (0 if nearest else 0.5) for turns in (u, v))
    x0, y0 = int(np.floor(x)), int(np.floor(y))
    fx, fy = (0, 0) if nearest else (x - x0, y - y0)
    c0, c1 = (folded(i, side, wraps[0]) for i in (x0, x0 + 1))
    row0, row1 = (folded(i, side, wraps[1]) for i in (y0, y0 + 1))
    top = level[row0, c0] * (1 - fx) + level[row0, c1] * fx
    bottom = level[row1, c0] * (1 - fx) + level[row1, c1] * fx
    return top * (1 - fy) + bottom * fy


def planes_of(projection, tile, point):
    """What a projection lays on a point: a list of share, place (metres of u and v), and the gradients of u and v."""
    position, normal = point["position"], point["normal"]
    if isinstance(projection, jq.Uv):
        return [(1.0, point["uv"] * projection.metres, *(point["uv_gradient"] * projection.metres))]
    if isinstance(projection, (jq.Spherical, jq.Cylindrical, jq.Polar)):

        def place(p):
            x, y, z = p - np.array(projection.centre)
            around = projection.repeats(tile) * tile * projection.scale[0] / (2 * np.pi)
            down = projection.radius * np.arccos(y / np.sqrt(x * x + y * y + z * z))
            if isinstance(projection, jq.Polar):
                away = np.hypot(x, z)
                return np.array([around * (np.arctan2(x, z) + np.radians(projection.spiral) * away), away])
            return np.array([around * np.arctan2(x, z), down if isinstance(projection, jq.Spherical) else -y])

        step = 1e-6  # gradients by differences, of what does not begin again there
        turned = [place(position + step * e) - place(position - step * e) for e in np.eye(3)]
        gradients = np.array(turned).T / (2 * step)
        return [(1.0, place(position), *gradients)]
    share = np.array([0.0, 1.0, 0.0])
    if isinstance(projection, jq.Triplanar):
        share = np.abs(normal) ** projection.sharpness
        share = np.maximum(share - 0.02 * share.sum(), 0)
        share = share / share.sum()
    elif isinstance(projection, jq.Box):
        share = np.eye(3)[np.argmax(np.abs(normal))]
    elif projection.axis in ("x", "z"):
        share = np.eye(3)["xyz".index(projection.axis)]
    laid = []
    for plane in range(3):
        if share[plane] > 0:
            right, up, _ = (np.array(a, float) for a in AXES[plane, 1 if normal[plane] >= 0 else -1])
            laid.append((share[plane], np.array([position @ right, -(position @ up)]), right, -up))
    return laid


def hashed(h):
    h = (h ^ h >> 16) * 0x7FEB352D & 0xFFFFFFFF
    h = (h ^ h >> 15) * 0x846CA68B & 0xFFFFFFFF
    return h ^ h >> 16


def patches_of(shuffle, place, tile):
    """The patches around a place of the pattern: a list of share, 2 x 2, and the place that is read; and the spread."""
    if shuffle is None:
        return [(1.0, np.eye(2), place)], 1.0
    x, y = place[0] / shuffle.size - place[1] / shuffle.size / 3**0.5, place[1] / shuffle.size * 2 / 3**0.5
    column, row = int(np.floor(x)), int(np.floor(y))
    a, b = x - column, y - row
    lower, upper = [(1 - a - b, 0, 0), (b, 0, 1), (a, 1, 0)], [(a + b - 1, 1, 1), (1 - b, 1, 0), (1 - a, 0, 1)]
    corners = lower if a + b <= 1 else upper
    near = np.array([c[0] for c in corners])
    weights = np.maximum(shuffle.border - (near.max() - near), 0) ** 2
    weights = weights / weights.sum()
    spread = 1 / np.sqrt((weights**2).sum())
    out = []
    for w, (_, right, down) in zip(weights, corners, strict=True):
        if w <= 0:
            continue
        c, r = column + right, row + down
        h = hashed(hashed((c & 0xFFFFFFFF) ^ shuffle.seed * 0x9E3779B1 & 0xFFFFFFFF) ^ r * 0x85EBCA77 & 0xFFFFFFFF)
        middle = shuffle.size * np.array([c + r / 2, r * 3**0.5 / 2])
        t = 2 * (h >> 16) / 2**16 - 1
        way = (1 if h >> 5 & 1 else -1) * np.array([1 - t * t, 2 * t]) / (1 + t * t)
        way = {"none": (1, 0), "any": way, "quarter": [(1, 0), (0, 1), (-1, 0), (0, -1)][h >> 3 & 3]}[str(shuffle.turn)]
        flip = -1 if shuffle.mirror and h >> 6 & 1 else 1
        turn = np.array([[way[0], -way[1]], [way[1], way[0]]]) @ np.eye(2)
        turn[0] *= flip
        other = hashed(h ^ 0x68E31DA4)
        to = tile * np.array([other >> 16, other & 0xFFFF]) / 2**16 if shuffle.shift else middle
        out.append((spread * w, turn, turn @ (place - middle) + to))
    return out, spread


def taps_of(projection, filter, steps, texel, levels):
    """The samples along the footprint: a list of share, metres of u and v from the middle, and level."""
    filter = projection.filter or filter
    if filter in ("nearest", "bilinear"):
        return [(1.0, np.zeros(2), 0.0)]
    if filter == "trilinear":
        return [(1.0, np.zeros(2), np.log2(max(np.linalg.norm(steps, axis=1).max(), 1e-10) / texel))]
    axes, lengths, _ = np.linalg.svd(steps.T)
    longer, shorter = np.maximum(lengths, 1e-10)
    count = int(min(projection.anisotropy, max(1, np.ceil(longer / max(shorter, texel) - 1e-3))))
    level = np.log2(max(longer / count, shorter) / texel)
    return [(1 / count, axes[:, 0] * longer * ((tap + 0.5) / count - 0.5), level) for tap in range(count)]


class Decoded:
    """Every channel of every level of the arrays as float64, colour as linear light."""

    def __init__(self, arrays):
        self.channels, self.fine = {}, {}
        self.levels = []
        for level in range(arrays.side.bit_length()):
            stacked = []
            for layout in arrays.layouts:
                plain = arrays.level(layout.name, level) / 255.0
                if layout.srgb:
                    plain = np.concatenate([linear(plain[..., :3]), plain[..., 3:]], axis=-1)
                stacked.append(np.concatenate([plain, np.ones((*plain.shape[:-1], 4 - plain.shape[-1]))], axis=-1))
            self.levels.append(np.concatenate(stacked, axis=-1))
        for row, layout in enumerate(arrays.layouts):
            for channel, content in enumerate(layout.channels):
                if content.role is not None:
                    (self.fine if content.fine else self.channels)[content.role, content.component] = 4 * row + channel

    def value(self, sample, role, component=0):
        where = self.channels.get((role, component))
        beside = self.fine.get((role, component))
        more = 0.0 if beside is None else (255 * sample[beside] - 128) / 65535
        return role.value.neutral[component] if where is None else sample[where] + more


def tuned(tuning, role, value):
    """What a layer makes of a value of its map."""
    if role is jq.MapRole.DIFFUSE:
        value = tuning.colours @ value
    elif role is jq.MapRole.ROUGHNESS:
        value = value + tuning.roughness
    elif role is jq.MapRole.OCCLUSION:
        value = 1 - tuning.occlusion * (1 - value)
    return np.clip(value, 0, 1)


def unit_along(lie, gradients, more, point):
    """The unit directions of u and v in the surface, by which slopes go where detail is cheap."""
    normal, tangent = point["normal"], point["tangent"]
    if isinstance(lie, jq.Uv):
        gradients = more @ lie.turned @ np.array([tangent[:3], -np.cross(normal, tangent[:3]) * tangent[3]])
    flat = gradients - np.outer(gradients @ normal, normal)
    return flat / np.linalg.norm(flat, axis=1, keepdims=True)


def blend_point(decoded, arrays, layers, point, index, weight, filter, world, films=()):
    """One texel: a dict of role to linear values. `point` holds one point of each array of `Points`, in float64; `films` are
    pairs of a film and how much of it there is."""
    R = jq.MapRole
    tallest_relief = max(arrays.reliefs[arrays.names.index(layer.swatch)] * layer.tuning.relief for layer in layers)
    total = {role: np.zeros(role.value.channels) for role in (*jq.SURFACE_ROLES, *jq.OPTIONAL_ROLES)}
    normal, tangent = point["normal"], point["tangent"]
    bitangent = np.cross(normal, tangent[:3]) * tangent[3]
    places = []
    for which, w in zip(index, weight, strict=True):
        if w <= 0:
            continue
        layer = layers[which]
        slot = arrays.names.index(layer.swatch)
        tile, relief = arrays.tiles[slot], arrays.reliefs[slot] * layer.tuning.relief / tallest_relief
        lie, samples = layer.projection, []
        fine = (lie.filter or filter) == "anisotropic"
        steps = point["steps"] if fine else point["footprint"][:, None] * np.array([tangent[:3], np.cross(normal, tangent[:3])])
        laid, means, flat = [], [], np.array([1, arrays.facts[slot].aspect])
        for share, place, *gradients in planes_of(lie, tile, point):
            place, gradients = lie.turned @ (place - lie.offset), lie.turned @ np.array(gradients)
            apart = dict(layer.per_map)
            patches, spread = patches_of(lie.shuffle, place / flat, tile)
            rest = frozenset(total) - {R[key.upper()] for key in apart}
            along = unit_along(lie, gradients, np.eye(2), point) if lie.detail == "cheap" else gradients
            laid += [(share * w, at, turn @ (gradients / flat[:, None]), turn @ along, rest) for w, turn, at in patches]
            if spread > 1:
                means.append((share * (1 - spread), rest))
            for key, own in apart.items():
                turned = own.turned @ gradients
                along = unit_along(lie, turned, own.turned, point) if lie.detail == "cheap" else turned
                laid.append((share, own.turned @ (place - own.offset) / flat, turned / flat[:, None], along, {R[key.upper()]}))
        for share, place, gradients, along, roles in laid:
            for part, away, level in taps_of(lie, filter, steps @ gradients.T, tile / arrays.side, decoded.levels):
                level = np.clip(level, 0, len(decoded.levels) - 1)
                whole = min(int(level), max(0, len(decoded.levels) - 2))
                for mip, mine in ((whole, 1 - (level - whole)), (whole + 1, level - whole)):
                    if mine > 0:
                        u, v = (place + away) / tile
                        sample = read_at(decoded.levels[mip][slot], u, v, lie.wraps, (lie.filter or filter) == "nearest")
                        samples.append((share * part * mine, sample, along, roles))
        samples += [(s, decoded.levels[0][slot].mean(axis=(0, 1)), np.zeros((2, 3)), roles) for s, roles in means]
        height = sum(s * decoded.value(x, R.HEIGHT) for s, x, _, roles in samples if R.HEIGHT in roles) * relief
        places.append((w, height + layer.tuning.lift / tallest_relief, relief, layer, samples))
    tallness = [w * max(height + 0.1, 0.001) for w, height, *_ in places]
    top = places[int(np.argmax(tallness))][3]
    kept = []
    for (w, _, _, layer, _), tall in zip(places, tallness, strict=True):
        said = {**dict(top.meets), **dict(layer.meets)} if layer is not top else {}
        soft = next((said[name] for name in (top.name, layer.name) if name in said), layer.softness)
        kept.append(w * max(0, 1 - (1 - soft) / max(soft, 1e-4) * (1 - tall / max(tallness))))
    kept = np.array(kept) / sum(kept)

    tilts = {R.NORMAL: np.zeros(3), R.COAT_NORMAL: np.zeros(3)}
    for k, (_, _, relief, layer, samples) in zip(kept, places, strict=True):
        tuning = layer.tuning
        for s, x, (along_u, along_v), roles in samples:
            for role in roles - {R.HEIGHT, *tilts}:
                value = np.array([decoded.value(x, role, c) for c in range(role.value.channels)])
                is_held = (role, 0) in decoded.channels  # what no array holds is neutral, and stays so
                total[role] += k * s * (tuned(tuning, role, value) if is_held and tuning != jq.Tuning() else value)
            if R.HEIGHT in roles:
                total[R.HEIGHT] += k * s * relief * decoded.value(x, R.HEIGHT)
            for role, tilt in ((role, tilt) for role, tilt in tilts.items() if role in roles):
                nx, ny = (2 * decoded.value(x, role, c) - 1 for c in (0, 1)) if (role, 0) in decoded.channels else (0, 0)
                nz = np.sqrt(max(0, 1 - nx * nx - ny * ny))
                # the height rises by -nx / nz along u and by ny / nz along v; what lies along the normal does not tilt it
                steep = tuning.normal if role is R.NORMAL else 1
                tilt += k * s * steep * (nx * along_u - ny * along_v) / max(nz, 1 / 128)
    for film, amount in films:
        lay_film(film, amount, total, tilts)
    return {**total, **{role: turned_by(tilt, point, bitangent, world) for role, tilt in tilts.items()}}


def lay_film(film, amount, total, tilts):
    """What lies upon a texel changes it, in place."""
    R, high = jq.MapRole, total[jq.MapRole.HEIGHT]
    cover = 0 if amount == 0 else np.clip(amount + film.hollows * (amount - high) / max(film.softness, 1e-3), 0, 1)
    total[R.DIFFUSE] = total[R.DIFFUSE] * (1 - cover + cover * np.array(film.tint))
    for role, own, share in (
        (R.DIFFUSE, film.colour, film.hides),
        (R.ROUGHNESS, film.roughness, 1),
        (R.SPECULAR, film.specular, 1),
    ):
        if own is not None:
            total[role] = total[role] * (1 - cover * share) + cover * share * np.array(own)
    tilts[R.NORMAL] = tilts[R.NORMAL] * (1 - cover * film.level)
    total[R.HEIGHT] = high + cover * film.level * film.hollows * max(0, amount - high)


def turned_by(tilt, point, bitangent, world):
    """The surface's normal, tilted."""
    normal, tangent = point["normal"], point["tangent"]
    detail = normal + tilt - normal * (tilt @ normal)
    detail /= np.linalg.norm(detail)
    return detail if world else np.array([detail @ tangent[:3], detail @ bitangent, detail @ normal])


def stored(total):
    """A blended texel as it is stored: the exact value before rounding, on the 8-bit scale."""
    R = jq.MapRole
    out = {role: 255 * np.clip(values, 0, 1) for role, values in total.items()}
    for role in (R.DIFFUSE, R.SPECULAR, R.EMISSION):
        out[role] = 255 * encoded(total[role])
    for role in (R.NORMAL, R.COAT_NORMAL):
        out[role] = 255 * (0.5 * total[role] + 0.5)
    return out
