"""Damaged files by the thousand, of every format that is read: what becomes of them.

    python benchmarks/fuzz.py                 ten minutes
    python benchmarks/fuzz.py --minutes 60 --formats obj,gltf
    python benchmarks/fuzz.py --quick         240 cases

Each case is a good file with bytes flipped, cut, put in, doubled or swapped, or lines and numbers of a text replaced by hostile
ones; by its number, so that it can be had again (`--case png:1234` runs it alone, with its traceback). It is read in a child
process that may take 5 seconds and 1 GiB. Right are the same pixels, other ones where the format has no checksum, or one of our
own errors. The last line is JSON; the exit code is 1 if anything went wrong.
"""

from __future__ import annotations

import argparse
import json
import multiprocessing
import os
import re
import resource
import signal
import sys
import tempfile
import time
import warnings
from collections import Counter
from pathlib import Path

import numpy as np

import jagged_quilt as jq
from jagged_quilt.maps.image_files import read_image
from jagged_quilt.maps.image_writing import write_image

SECONDS, MIB = 5, 1024
BATCH = 400
NUMBERS = [
    b"nan",
    b"-inf",
    b"1e999",
    b"-1",
    b"0",
    b"4294967296",
    b"99999999999999999999",
    b"1e-320",
    b"NaN",
    b"-Infinity",
    b"1e308",
    b"2147483648",
    b"1e-7",
    b"true",
    b"null",
    b'"a"',
    b"\x00",
    b"\xff\xfe",
    b"[[[[",
]
QUILT = """\
title = "Two fields"
[surface]
terrain = "ground.png"
size = [16.0, 16.0]
heights = [0.0, 4.0]
[weights]
texels = 8
daubs = "daubs.jsonl"
[[swatch]]
name = "clay"
plain = { diffuse = "#806040", roughness = 0.5 }
tile = 2.0
[[swatch]]
name = "salt"
plain = { diffuse = [0.8, 0.8, 0.8] }
tile = [3.0, 1.0]
[[channel]]
name = "wet"
mask = [{ kind = "height", band = [0.0, 1.0] }]
[[film]]
mask = [{ kind = "channel", channel = "wet" }]
roughness = 0.1
[[layer]]
swatch = "clay"
[[layer]]
swatch = "salt"
projection = "triplanar"
shuffle = { size = 1.5 }
mask = [{ kind = "height", band = [1.0, 2.0] }, { kind = "noise", size = 5.0, threshold = "= 0.5 + 0.1 * sin(time)" }]
"""


def good_files(folder: Path) -> dict[str, Path]:
    """Write a good file of each format; return them by their formats."""
    rng = np.random.default_rng(1)
    grey, colour = rng.integers(0, 256, (24, 20), dtype=np.uint8), rng.integers(0, 65536, (18, 22, 3), dtype=np.uint16)
    files = {}
    for suffix in ("png", "tga", "bmp", "jpg"):
        files[suffix] = folder / f"a.{suffix}"
        write_image(files[suffix], np.dstack([grey, grey.T[:24, :20] if grey.T.shape == grey.shape else grey, 255 - grey]))
    for suffix in ("tif", "exr", "hdr"):
        files[suffix] = folder / f"a.{suffix}"
        write_image(files[suffix], colour if suffix == "tif" else colour.astype(np.float32) / 65535)
    maps = {jq.MapRole.DIFFUSE: jq.TextureMap(role=jq.MapRole.DIFFUSE, texels=np.dstack([grey] * 3)[:16, :16])}
    arrays = jq.pack([jq.Swatch(name="a", tile=1.0, relief=0.1, maps=maps)], side=16, work=jq.Work(threads=1))
    arrays.save(folder / "arrays")
    files["ktx2"], files["arrays.json"] = folder / "arrays" / "diffuse_height.ktx2", folder / "arrays" / "arrays.json"
    mesh = jq.shapes.sphere(1.0, around=8, down=4)
    for suffix in ("obj", "glb"):
        files[suffix] = jq.export.write_mesh(mesh, folder / f"a.{suffix}")
    files["gltf"] = folder / "a.gltf"
    files["gltf"].write_text(gltf_of(folder))
    files["ply"], files["binary.ply"] = folder / "a.ply", folder / "b.ply"
    head = "ply\nformat {} 1.0\nelement vertex 4\n" + "".join(f"property float {axis}\n" for axis in ("x", "y", "z", "s", "t"))
    head += "element face 2\nproperty list uchar int vertex_indices\nend_header\n"
    corners = [[0, 0, 0, 0, 0], [1, 0, 0, 1, 0], [1, 0, 1, 1, 1], [0, 0, 1, 0, 1]]
    rows = "".join(" ".join(map(str, corner)) + "\n" for corner in corners)
    files["ply"].write_text(head.format("ascii") + rows + "3 0 2 1\n3 0 3 2\n")
    faces = b"".join(b"\x03" + np.array(face, "<i4").tobytes() for face in ([0, 2, 1], [0, 3, 2]))
    files["binary.ply"].write_bytes(head.format("binary_little_endian").encode() + np.array(corners, "<f4").tobytes() + faces)
    text = "".join(f"newmtl m{n}\nKd 0.5 0.4 0.{n}\nmap_Kd a.png\nPr 0.4\n" for n in range(3))
    (folder / "a.mtl").write_text(text)
    head = "mtllib a.mtl\nusemtl m1\n"
    files["obj"].write_text(head + files["obj"].read_text())
    files["mtl"] = folder / "a.mtl"
    daubs = [
        jq.Daub(path=((1.0, 2.0), (3.0, 9.0)), radius=2, layers=("salt",)),
        jq.Daub(path=((5.0, 5.0),), radius=1, channel="wet"),
    ]
    files["daubs"] = folder / "daubs.jsonl"
    jq.daubs.write_daubs(files["daubs"], daubs)
    write_image(folder / "ground.png", rng.integers(0, 65536, (17, 17), dtype=np.uint16))
    files["toml"] = folder / "job.quilt.toml"
    files["toml"].write_text(QUILT)
    files["npy"] = folder / "a.npy"
    np.save(files["npy"], rng.random((9, 9), np.float32))
    weights = jq.weigh(jq.Terrain(np.eye(3), size=(8, 8)).canvas(8), [jq.Layer("x"), jq.Layer("y", mask=jq.Noise(size=2))])
    weights.save(folder / "weights")
    files["weights.json"] = folder / "weights" / "weights.json"
    return files


def gltf_of(folder: Path) -> str:
    """A glTF file of a triangle with a material and a normal of its own, its numbers in a buffer beside it."""
    numbers = np.array([[0, 0, 0], [1, 0, 0], [0, 0, 1], [0, 1, 0], [0, 1, 0], [0, 1, 0]], "<f4")
    (folder / "a.bin").write_bytes(numbers.tobytes() + np.array([0, 2, 1], "<u2").tobytes())
    reported = {
        "asset": {"version": "2.0"},
        "buffers": [{"uri": "a.bin", "byteLength": 78}],
        "bufferViews": [
            {"buffer": 0, "byteOffset": 0, "byteLength": 72, "byteStride": 12},
            {"buffer": 0, "byteOffset": 72, "byteLength": 6},
        ],
        "accessors": [
            {"bufferView": 0, "componentType": 5126, "count": 3, "type": "VEC3", "min": [0, 0, 0], "max": [1, 0, 1]},
            {"bufferView": 0, "byteOffset": 36, "componentType": 5126, "count": 3, "type": "VEC3"},
            {"bufferView": 1, "componentType": 5123, "count": 3, "type": "SCALAR"},
        ],
        "images": [{"uri": "a.png"}],
        "textures": [{"source": 0}],
        "materials": [
            {
                "name": "m",
                "alphaMode": "MASK",
                "emissiveFactor": [0.1, 0.2, 3.0],
                "normalTexture": {"index": 0, "scale": 0.5},
                "occlusionTexture": {"index": 0, "strength": 0.5},
                "pbrMetallicRoughness": {
                    "baseColorFactor": [0.5, 0.5, 0.5, 1.0],
                    "baseColorTexture": {
                        "index": 0,
                        "extensions": {"KHR_texture_transform": {"scale": [2, 2], "rotation": 0.5}},
                    },
                    "metallicFactor": 0.5,
                    "roughnessFactor": 0.5,
                },
                "extensions": {
                    "KHR_materials_clearcoat": {"clearcoatFactor": 0.5, "clearcoatRoughnessFactor": 0.1},
                    "KHR_materials_ior": {"ior": 1.4},
                    "KHR_materials_specular": {"specularFactor": 0.5, "specularColorFactor": [1, 1, 1]},
                    "KHR_materials_emissive_strength": {"emissiveStrength": 2},
                },
            }
        ],
        "meshes": [{"primitives": [{"attributes": {"POSITION": 0, "NORMAL": 1}, "indices": 2, "material": 0, "mode": 4}]}],
        "nodes": [
            {"children": [1], "rotation": [0, 0.6, 0, 0.8], "scale": [1, 2, 1]},
            {"mesh": 0, "translation": [1, 2, 3], "matrix": [1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1]},
        ],
        "scenes": [{"nodes": [0]}],
        "scene": 0,
    }
    return json.dumps(reported, indent=1)


TEXTS = ("obj", "gltf", "ply", "mtl", "daubs", "toml", "arrays.json", "weights.json")
CHECKED = {"png", "ktx2"}
"""Formats with a checksum: other pixels than before are wrong."""


def read(kind: str, path: Path) -> object:
    """Read a file as a user's command would; return what tells whether it is the same."""
    if kind in ("obj", "ply", "binary.ply", "glb", "gltf"):
        mesh = jq.read_mesh(path)
        for material in mesh.materials.values():
            for rule in material.rules:
                assert np.isfinite(rule.times).all(), rule
                assert np.isfinite(rule.value).all(), rule
        assert np.isfinite(mesh.position).all()
        assert np.isfinite(mesh.normal).all()
        assert np.allclose(np.linalg.norm(mesh.normal, axis=1), 1, atol=1e-3)
        return None
    if kind == "mtl":
        return jq.read_mesh(path.with_suffix(".obj")) and None
    if kind in ("ktx2", "arrays.json"):
        arrays = jq.open_arrays(path.parent)
        arrays.check()
        return arrays.level("diffuse_height", 0).tobytes()
    if kind == "daubs":
        return jq.daubs.read_daubs(path) and None
    if kind == "toml":
        quilt = jq.read_quilt(path)
        return quilt.daubs and None
    if kind == "npy":
        return jq.read_terrain(path, size=(8, 8), heights=(0, 1)) and None
    if kind == "weights.json":
        return jq.open_weights(path.parent) and None
    return read_image(path).tobytes()


def damaged(good: bytes, rng: np.random.Generator, is_text: bool) -> bytes:
    """Return bytes with one to four kinds of damage."""
    data = bytearray(good)
    words_only = is_text and rng.random() < 0.5  # so that more of it is still a text of its kind
    for _ in range(int(rng.integers(1, 5))):
        at = int(rng.integers(0, max(1, len(data))))
        match 6 if words_only else int(rng.integers(0, 8 if is_text else 6)):
            case 0:
                data[at : at + 1] = bytes([int(rng.integers(256))])
            case 1:
                del data[at : at + int(rng.integers(1, 40))]
            case 2:
                data[at:at] = rng.bytes(int(rng.integers(1, 20)))
            case 3:
                data = data[:at] if rng.random() < 0.5 else data
            case 4:
                data[at : at + 4] = int(rng.choice([0, 1, 0x7FFFFFFF, 0xFFFFFFFF, 0x10000])).to_bytes(4, "little")
            case 5:
                piece = data[at : at + int(rng.integers(1, 60))]
                to = int(rng.integers(0, len(data) + 1))
                data[to:to] = piece * int(rng.integers(1, 4))
            case 6:
                words = re.findall(rb"[^\s,:\[\]{}]+", bytes(data))
                if words:
                    old = words[int(rng.integers(len(words)))]
                    data = bytearray(bytes(data).replace(old, NUMBERS[int(rng.integers(len(NUMBERS)))], 1))
            case 7:
                lines = bytes(data).split(b"\n")
                one, two = (int(each) for each in rng.integers(0, len(lines), 2))
                lines[one], lines[two] = lines[two], lines[one]
                data = bytearray(b"\n".join(lines))
    return bytes(data)


class TooSlow(BaseException):
    """A case took longer than it may."""


def outcome(kind: str, path: Path, original: object) -> str:
    """Read one damaged file; return "same", "other", "refused", or what went wrong."""
    try:
        found = read(kind, path)
    except jq.QuiltError as error:
        said = str(error)
        return "refused" if "\n" not in said.strip() or kind == "toml" else f"wrong: an error of several lines: {said[:80]!r}"
    except TooSlow:
        return "wrong: too slow"
    except MemoryError:
        return "wrong: memory"
    except Exception as error:
        return f"wrong: {type(error).__name__}: {str(error)[:100]}"
    if found is None or found == original:
        return "same"
    return "wrong: other pixels" if kind in CHECKED else "other"


def run_case(kind: str, number: int, files: dict[str, Path], folder: Path, originals: dict[str, object]) -> str:
    """Damage a file by the case's number, in a folder beside what it needs, and read it."""
    good = files[kind].read_bytes()
    is_text = kind in TEXTS
    where = folder / files[kind].relative_to(next(iter(files.values())).parent)
    where.write_bytes(damaged(good, np.random.default_rng([number, *kind.encode()]), is_text))
    signal.setitimer(signal.ITIMER_REAL, SECONDS)
    try:
        return outcome(kind, where, originals[kind])
    except TooSlow:
        return "wrong: too slow"
    finally:
        signal.setitimer(signal.ITIMER_REAL, 0)
        where.write_bytes(good)


def work(kind: str, numbers: list[int], folder: str, answers: object) -> None:
    """In a child process: run cases, and tell of each before and after."""

    def too_slow(*_: object) -> None:
        raise TooSlow

    signal.signal(signal.SIGALRM, too_slow)
    warnings.simplefilter("ignore")
    own = Path(tempfile.mkdtemp(dir=folder))
    files = good_files(own)
    originals = {kind: read(kind, files[kind])}
    resource.setrlimit(resource.RLIMIT_DATA, (MIB << 20, MIB << 20))
    os.dup2(os.open(os.devnull, os.O_WRONLY), 2)  # codecs talk
    for number in numbers:
        answers.put((number, "begun"))  # type: ignore[attr-defined]
        answers.put((number, run_case(kind, number, files, own, originals)))  # type: ignore[attr-defined]


def run_batch(kind: str, numbers: list[int], folder: str) -> dict[int, str]:
    """Run cases in a child; one that dies or hangs costs that case, and the rest go on in another."""
    context = multiprocessing.get_context("spawn")
    reported: dict[int, str] = {}
    while left := [number for number in numbers if number not in reported]:
        answers = context.Queue()
        child = context.Process(target=work, args=(kind, left, folder, answers))
        child.start()
        last, at = None, time.monotonic()
        while child.is_alive() or not answers.empty():
            try:
                number, said = answers.get(timeout=1)
            except Exception:
                if last is not None and time.monotonic() - at > 2 * SECONDS:
                    child.kill()
                    break
                continue
            last, at = number, time.monotonic()
            if said != "begun":
                reported[number] = said
        child.join(5)
        hung = [number for number in left if number not in reported]
        if hung and last is not None and last in hung:
            reported[last] = (
                "wrong: hung" if child.exitcode is None or child.exitcode == -9 else f"wrong: died ({child.exitcode})"
            )
        elif hung and last is None:
            raise RuntimeError(f"{kind}: the child did not begin; exit code {child.exitcode}")
    return reported


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__.split("\n\n", maxsplit=1)[0])
    parser.add_argument("--minutes", type=float, default=10)
    parser.add_argument("--quick", action="store_true")
    parser.add_argument("--formats", default="")
    parser.add_argument("--seed", type=int, default=0)
    parser.add_argument("--case", metavar="FORMAT:NUMBER")
    reported = parser.parse_args()
    with tempfile.TemporaryDirectory() as folder:
        files = good_files(Path(folder))
        if reported.case:
            kind, _, number = reported.case.partition(":")
            good = files[kind].read_bytes()
            is_text = kind in TEXTS
            files[kind].write_bytes(damaged(good, np.random.default_rng([int(number), *kind.encode()]), is_text))
            print(read(kind, files[kind]))
            return 0
        kinds = reported.formats.split(",") if reported.formats else list(files)
        began, counts, wrong, first = time.monotonic(), {kind: Counter[str]() for kind in kinds}, [], reported.seed * 10_000_000
        rounds = max(1, 300 // (BATCH * len(kinds))) if reported.quick else 1 << 30
        batch = max(1, 240 // len(kinds)) if reported.quick else BATCH
        for turn in range(rounds):
            for kind in kinds:
                numbers = list(range(first + turn * batch, first + (turn + 1) * batch))
                for number, said in run_batch(kind, numbers, folder).items():
                    counts[kind][said.partition(":")[0]] += 1
                    if said.startswith("wrong"):
                        wrong.append(f"{kind}:{number} {said}")
            if not reported.quick and time.monotonic() - began > 60 * reported.minutes:
                break
    print(f"{'format':<14}{'refused':>9}{'same':>9}{'other':>9}{'wrong':>9}")
    for kind, own in counts.items():
        print(f"{kind:<14}" + "".join(f"{own[name]:>9}" for name in ("refused", "same", "other", "wrong")))
    for each in wrong[:40]:
        print(each)
    total = sum(sum(own.values()) for own in counts.values())
    print(json.dumps({"cases": total, "wrong": len(wrong), "seconds": round(time.monotonic() - began, 1)}))
    return 1 if wrong else 0


if __name__ == "__main__":
    sys.exit(main())
