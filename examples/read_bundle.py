"""Blend a piece of the ground from a bundle with NumPy alone: all that a program of your own has to do, on one page.

python examples/read_bundle.py saltworks out      (after: jquilt demo saltworks)
"""

import json
import struct
import subprocess
import sys
import zlib
from pathlib import Path

import numpy as np

project, out = Path(sys.argv[1]), Path(sys.argv[2])
texels, row, column = (int(each) for each in (sys.argv[3:6] or (2048, 1600, 795)))  # of a bake along the ground; the middle
if not (project / "bundle.json").exists():
    quilt = next(project.glob("*.quilt.toml"))
    subprocess.run(["jquilt", "export", "bundle", quilt, "--into", out / "bundle", "--no-zstd"], check=True)
    project = out / "bundle"
bundle = json.loads((project / "bundle.json").read_text())


# ---- Files


def read_png(name):
    """(H, W, C) of 0..1; our own images are filtered row by row, by nothing, the texel before or the row above."""
    data, at, body = (project / name).read_bytes(), 8, b""
    while at < len(data):
        length, kind = struct.unpack(">I4s", data[at : at + 8])
        part, at = data[at + 8 : at + 8 + length], at + 12 + length
        if kind == b"IHDR":
            width, height, bits, colour = struct.unpack(">2I2B", part[:10])
        body += part if kind == b"IDAT" else b""
    channels = {0: 1, 2: 3, 4: 2, 6: 4}[colour]
    rows = np.frombuffer(zlib.decompress(body), np.uint8).reshape(height, 1 + width * channels * bits // 8)
    filters, raw = rows[:, 0], rows[:, 1:].reshape(height, width, -1).copy()
    for number, filtered in enumerate(filters):
        if filtered == 1:
            raw[number] = np.cumsum(raw[number], axis=0, dtype=np.uint8)
        elif filtered == 2 and number:
            raw[number] += raw[number - 1]
        elif filtered > 2:
            sys.exit(f"{name}: its rows are filtered in a way that this page does not undo")
    return raw.view(">u2" if bits == 16 else np.uint8) / (2.0**bits - 1)


def read_array(reported):
    """The levels of a KTX2 file, each (slices, H, W, C), colour as linear light."""
    data = (project / reported["file"]).read_bytes()
    scheme = struct.unpack_from("<9I", data, 12)[8]
    if reported["format"] != "unorm8" or scheme:
        sys.exit(f"{reported['file']}: this page reads 8 bits without compression; pack so, and export with --no-zstd")
    levels = []
    for level in range(reported["levels"]):
        at, length, _ = struct.unpack_from("<3Q", data, 80 + 24 * level)
        side = reported["side"] >> level
        plain = np.frombuffer(data, np.uint8, length, at).reshape(reported["slices"], side, side, -1) / 255
        if reported["srgb"]:
            colour = plain[..., :3]
            plain[..., :3] = np.where(colour <= 0.04045, colour / 12.92, ((colour + 0.055) / 1.055) ** 2.4)
        levels.append(plain)
    return levels


def between(grid, y, x):
    """A value between four of a grid, by row and column; clamped to it."""
    y, x = (min(max(at, 0), count - 1) for at, count in zip((y, x), grid.shape[:2], strict=True))
    r, c = (min(int(at), count - 2) for at, count in zip((y, x), grid.shape[:2], strict=True))
    fr, fc = y - r, x - c
    return (grid[r, c] * (1 - fc) + grid[r, c + 1] * fc) * (1 - fr) + (grid[r + 1, c] * (1 - fc) + grid[r + 1, c + 1] * fc) * fr


roles = ("diffuse", "specular", "normal", "roughness", "occlusion", "height")
role_of = lambda holds: holds.removeprefix("1 - ").partition(".")[0]
needed = [reported for reported in bundle["arrays"] if {*map(role_of, reported["channels"])} & {*roles}]
arrays = {reported["name"]: (reported, read_array(reported)) for reported in needed}
means = {name: levels[0].mean(axis=(1, 2)) for name, (_, levels) in arrays.items()}
where = {}  # of a channel, as "diffuse.r": array, place, and whether it is stored inverted
for name, (reported, _) in arrays.items():
    for place, holds in enumerate(reported["channels"]):
        where[holds.removeprefix("1 - ")] = name, place, holds.startswith("1 - ")
ground = bundle["ground"]
low, high = ground["heights"]
heights = low + (high - low) * read_png(ground["heightmap"])[..., 0]
spacing = [metres / (count - 1) for metres, count in zip(ground["size"], heights.shape[::-1], strict=True)]
south, east = np.gradient(heights, spacing[1], spacing[0])
sheets = np.concatenate([read_png(file) for file in bundle["weights"]["files"]], axis=2)
amounts = [read_png(film["amounts"])[..., 0] for film in bundle["films"]]


# ---- How a layer lies


def planes_of(lie, position, normal):
    """Share, metres of u and v, and their gradients, of each plane that a pattern is laid on."""
    sides = np.where(normal >= 0, 1.0, -1.0)
    ways = [  # right and down, as each side reads from outside
        (np.array([0, 0, -sides[0]]), np.array([0, -1.0, 0])),
        (np.array([1.0, 0, 0]), np.array([0, 0, sides[1]])),
        (np.array([sides[2], 0, 0]), np.array([0, -1.0, 0])),
    ]
    shares = np.eye(3)[1]
    if lie["kind"] == "triplanar":
        shares = np.abs(normal) ** lie["sharpness"]
        shares = np.maximum(shares - 0.02 * shares.sum(), 0)
        shares /= shares.sum()
    elif lie["kind"] != "planar" or lie["axis"] != "y":
        sys.exit(f"this page lays patterns flat or from three sides, not {lie['kind']}")
    turn = np.array(lie["matrix"])
    for share, (right, down) in zip(shares, ways, strict=True):
        if share > 0:
            yield share, turn @ (np.array([position @ right, position @ down]) - lie["offset"]), turn @ np.array([right, down])


def hashed(h):
    h = (h ^ h >> 16) * 0x7FEB352D & 0xFFFFFFFF
    h = (h ^ h >> 15) * 0x846CA68B & 0xFFFFFFFF
    return h ^ h >> 16


def patches_of(shuffle, place, tile):
    """Share, turn and place of each patch of a shuffled pattern (a grid of triangles), and by how much they spread."""
    p = place / shuffle["size"]
    x, y = p[0] - p[1] / 3**0.5, p[1] * 2 / 3**0.5
    cell, a, b = (int(np.floor(x)), int(np.floor(y))), x % 1, y % 1
    near = [(1 - a - b, 0, 0), (b, 0, 1), (a, 1, 0)] if a + b <= 1 else [(a + b - 1, 1, 1), (1 - b, 1, 0), (1 - a, 0, 1)]
    far = np.array([each[0] for each in near])
    shares = np.maximum(shuffle["border"] - (far.max() - far), 0) ** 2
    shares /= shares.sum()
    spread, out = 1 / np.sqrt((shares**2).sum()), []
    for share, (_, right, down) in zip(shares, near, strict=True):
        c, r = cell[0] + right, cell[1] + down
        h = hashed(hashed(c & 0xFFFFFFFF ^ shuffle["seed"] * 0x9E3779B1 & 0xFFFFFFFF) ^ r * 0x85EBCA77 & 0xFFFFFFFF)
        t = 2 * (h >> 16) / 2**16 - 1
        any_way = (1 if h >> 5 & 1 else -1) * np.array([1 - t * t, 2 * t]) / (1 + t * t)
        way = {"any": any_way, "quarter": [(1, 0), (0, 1), (-1, 0), (0, -1)][h >> 3 & 3], "none": (1, 0)}[shuffle["turn"]]
        turn = np.array([[way[0], -way[1]], [way[1], way[0]]], float)
        turn[0] *= -1 if shuffle["mirror"] and h >> 6 & 1 else 1
        middle, other = shuffle["size"] * np.array([c + r / 2, r * 3**0.5 / 2]), hashed(h ^ 0x68E31DA4)
        to = tile * np.array([other >> 16, other & 0xFFFF]) / 2**16 if shuffle["shift"] else middle
        out.append((spread * share, turn, turn @ (place - middle) + to))
    return out, spread


def texel_at(layer, place, level):
    """All channels between four texels of a mip, by name; patterns repeat."""
    found = {}
    for name, (_, levels) in arrays.items():
        texture = levels[level][layer["slices"][name]]
        side = len(texture)
        x, y = place / layer["tile"] * side - 0.5
        c, r, fx, fy = int(np.floor(x)), int(np.floor(y)), x % 1, y % 1
        top = texture[r % side, c % side] * (1 - fx) + texture[r % side, (c + 1) % side] * fx
        low = texture[(r + 1) % side, c % side] * (1 - fx) + texture[(r + 1) % side, (c + 1) % side] * fx
        found[name] = top * (1 - fy) + low * fy
    return found


def samples_of(layer, position, normal, steps):
    """What a layer shows: share, texels by array, and the gradients by which slopes go."""
    last, out = next(iter(arrays.values()))[0]["levels"] - 1, []
    for share, place, along in planes_of(layer["projection"], position, normal):
        patches, spread = [(1.0, np.eye(2), place)], 1.0
        if "shuffle" in layer["projection"]:
            patches, spread = patches_of(layer["projection"]["shuffle"], place, layer["tile"][0])
        for part, turn, at in patches:
            longest = np.linalg.norm(steps @ (turn @ along).T / layer["tile"], axis=1).max()
            level = min(max(np.log2(max(longest, 1e-12) * 2**last), 0), last)
            lower = min(int(level), last - 1)
            for mip, mine in ((lower, 1 - (level - lower)), (lower + 1, level - lower)):
                if part * mine > 0:
                    out.append((share * part * mine, texel_at(layer, at, mip), turn @ along))
        if spread > 1:  # so that mean and variance stay
            mean = {name: each[layer["slices"][name]] for name, each in means.items()}
            out.append((share * (1 - spread), mean, np.zeros((2, 3))))
    return out


# ---- How layers meet


def value(texel, holds):
    """What a texel says of a channel."""
    array, place, is_inverted = where[holds]
    return 1 - texel[array][place] if is_inverted else texel[array][place]


def blend_at(row, column, rows, columns):
    """One texel of a bake of so many rows and columns: linear diffuse, specular, roughness, occlusion, and the normal."""
    step = np.array([ground["size"][0] / columns, ground["size"][1] / rows])
    x, z = (column + 0.5) * step[0], (row + 0.5) * step[1]
    y, gx, gz = (between(grid, z / spacing[1], x / spacing[0]) for grid in (heights, east, south))
    position, normal, tangent = np.array([x, y, z]), np.array([-gx, 1, -gz]), np.array([1, gx, 0])
    upward, eastward = 1 / np.linalg.norm(normal), 1 / np.linalg.norm(tangent)
    normal, tangent = normal * upward, tangent * eastward
    across = np.cross(normal, tangent)
    steps = np.array([tangent * step[0] / eastward, across * step[1] * eastward / upward])
    uv = x / ground["size"][0], z / ground["size"][1]
    read = lambda sheet: between(sheet, uv[1] * len(sheet) - 0.5, uv[0] * sheet.shape[1] - 0.5)
    weights = read(sheets)[: bundle["weighed_layers"]]

    shown = []
    for layer, weight in zip(bundle["layers"], weights, strict=False):
        if weight > 0:
            tuning, samples = layer["tuning"], samples_of(layer, position, normal, steps)
            relief = layer["relief"] * tuning["relief"] / bundle["relief"]
            high = sum(share * value(texel, "height") for share, texel, _ in samples) * relief
            tall = weight * max(high + tuning["lift"] / bundle["relief"] + 0.1, 0.001)
            shown.append((tall, weight, high, layer, samples))
    tallest, _, _, top, _ = max(shown, key=lambda each: each[0])

    total = {"diffuse": np.zeros(3), "specular": np.zeros(3), "roughness": 0.0, "occlusion": 0.0, "height": 0.0}
    slope, whole = np.zeros(3), 0.0
    for tall, weight, high, layer, samples in shown:
        pairs = {**top["meets"], **layer["meets"]} if layer is not top else {}
        soft = next((pairs[each["name"]] for each in (top, layer) if each["name"] in pairs), layer["softness"])
        share = weight * max(0, 1 - (1 - soft) / max(soft, 1e-4) * (1 - tall / tallest))
        whole, tuning = whole + share, layer["tuning"]
        total["height"] += share * high
        for part, texel, along in samples:
            colour = np.array([value(texel, f"diffuse.{each}") for each in "rgb"])
            total["diffuse"] += share * part * np.clip(np.array(tuning["colours"]) @ colour, 0, 1)
            total["specular"] += share * part * np.array([value(texel, f"specular.{each}") for each in "rgb"])
            total["roughness"] += share * part * np.clip(value(texel, "roughness") + tuning["roughness"], 0, 1)
            total["occlusion"] += share * part * np.clip(1 - tuning["occlusion"] * (1 - value(texel, "occlusion")), 0, 1)
            nx, ny = (2 * value(texel, f"normal.{each}") - 1 for each in "xy")
            upright = max(np.sqrt(max(0, 1 - nx * nx - ny * ny)), 1 / 128)
            slope += share * part * tuning["normal"] * (nx * along[0] - ny * along[1]) / upright
    total, slope = {name: each / whole for name, each in total.items()}, slope / whole

    for film, sheet in zip(bundle["films"], amounts, strict=True):
        amount = read(sheet)
        cover = amount + film["hollows"] * (amount - total["height"]) / max(film["softness"], 1e-3)
        cover = np.clip(cover, 0, 1) if amount > 0 else 0
        total["diffuse"] = total["diffuse"] * (1 - cover + cover * np.array(film["tint"]))
        for name, hides in (("colour", film["hides"]), ("roughness", 1), ("specular", 1)):
            if name in film:
                role = "diffuse" if name == "colour" else name
                total[role] = total[role] * (1 - cover * hides) + cover * hides * np.array(film[name])
        slope *= 1 - cover * film["level"]

    leaning = normal + slope - normal * (slope @ normal)
    leaning /= np.linalg.norm(leaning)
    total["normal"] = np.array([leaning @ tangent, leaning @ across, leaning @ normal])
    return total


def stored(total):
    """A texel as it is stored: 0..255, colours as sRGB, normals around the middle, green up."""
    srgb = lambda plain: np.where(plain <= 0.0031308, 12.92 * plain, 1.055 * np.maximum(plain, 1e-9) ** (1 / 2.4) - 0.055)
    whole = {name: srgb(total[name]) for name in ("diffuse", "specular")}
    whole |= {"normal": 0.5 * total["normal"] + 0.5, "roughness": total["roughness"], "occlusion": total["occlusion"]}
    return {name: np.rint(255 * np.clip(each, 0, 1)).astype(int).tolist() for name, each in whole.items()}


def write_png(path, pixels):
    """(H, W, 3) uint8, without filters."""
    rows = b"".join(b"\0" + row.tobytes() for row in pixels)
    head = struct.pack(">2I5B", pixels.shape[1], pixels.shape[0], 8, 2, 0, 0, 0)
    parts = [(b"IHDR", head), (b"IDAT", zlib.compress(rows)), (b"IEND", b"")]
    chunks = [struct.pack(">I", len(d)) + k + d + struct.pack(">I", zlib.crc32(k + d)) for k, d in parts]
    path.write_bytes(b"\x89PNG\r\n\x1a\n" + b"".join(chunks))


rows = round(texels * ground["size"][1] / max(ground["size"]))
columns = round(texels * ground["size"][0] / max(ground["size"]))
texel = stored(blend_at(row, column, rows, columns))
print(f"texel {column}, {row} of {columns} x {rows}:", json.dumps(texel))
out.mkdir(parents=True, exist_ok=True)
(out / "texel.json").write_text(json.dumps(texel))
patch = [[stored(blend_at(row + r, column + c, rows, columns))["diffuse"] for c in range(-12, 12)] for r in range(-7, 8)]
write_png(out / "patch.png", np.kron(np.array(patch, np.uint8), np.ones((16, 16, 1), np.uint8)))
print("wrote", out / "patch.png")
