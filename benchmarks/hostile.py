"""Small files that ask for much: what each costs, and what is said of it.

    python benchmarks/hostile.py            all of them
    python benchmarks/hostile.py --quick    those of at most 300 kB
    python benchmarks/hostile.py --only PART_OF_A_NAME

Each file is below 1 MB and made by one line below. It is read in a child process that may take 5 seconds and 1 GiB.
Right is whatever holds no more than the file does, and one of our own errors. The last line is JSON; the exit code is 1 if
anything cost too much or was refused in other words than ours.
"""

from __future__ import annotations

import argparse
import base64
import json
import multiprocessing
import queue
import resource
import struct
import sys
import tempfile
import time
import warnings
import zlib
from collections.abc import Callable
from pathlib import Path

import numpy as np

import jagged_quilt as jq
from jagged_quilt.maps.image_files import read_image
from jagged_quilt.maps.image_writing import write_image

SECONDS, MIB = 5, 1024
READERS: dict[str, Callable[[Path], object]] = {
    ".obj": jq.read_mesh,
    ".gltf": jq.read_mesh,
    ".glb": jq.read_mesh,
    ".ply": jq.read_mesh,
    ".toml": jq.read_quilt,
    ".jsonl": jq.daubs.read_daubs,
    ".npy": lambda path: jq.read_terrain(path, size=(8, 8), heights=(0, 1)),
    ".png": read_image,
}
_PLY = "ply\nformat ascii 1.0\nelement vertex {}\nproperty float x\nproperty float y\nproperty float z\n"
_FACES = "element face {}\nproperty list uchar int vertex_indices\n"
_TRIANGLE = "v 0 0 0\nv 1 0 0\nv 0 0 1\n"
_CLAY = '[[swatch]]\nname = "clay"\nplain = { diffuse = "#806040" }\n'
_GROUND = '[surface]\nterrain = "ground.png"\nsize = [16.0, 16.0]\nheights = [0.0, 4.0]\n'


def gltf(**more: object) -> bytes:
    """A glTF file of one triangle, with other tables in place of its own."""
    data = np.array([[0, 0, 0], [1, 0, 0], [0, 0, 1]], "<f4").tobytes()
    reported: dict[str, object] = {
        "asset": {"version": "2.0"},
        "buffers": [{"byteLength": 36, "uri": "data:;base64,AAAAAAAAAAAAAAAAAACAPwAAAAAAAAAAAAAAAAAAAAAAAIA/"}],
        "bufferViews": [{"buffer": 0, "byteLength": len(data)}],
        "accessors": [{"bufferView": 0, "componentType": 5126, "type": "VEC3", "count": 3}],
        "meshes": [{"primitives": [{"attributes": {"POSITION": 0}}]}],
        "nodes": [{"mesh": 0}],
    }
    return json.dumps(reported | more, separators=(",", ":")).encode()


def _long_gltf(triangles: int, **more: object) -> bytes:
    """One of many triangles, all of them of one corner."""
    data = bytes(36 * triangles)
    uri = "data:;base64," + base64.b64encode(data).decode()
    return gltf(
        buffers=[{"byteLength": len(data), "uri": uri}],
        bufferViews=[{"buffer": 0, "byteLength": len(data)}],
        accessors=[{"bufferView": 0, "componentType": 5126, "type": "VEC3", "count": 3 * triangles}],
        **more,
    )


def _png(width: int, height: int) -> bytes:
    """A black picture, by its bytes."""
    chunk = lambda kind, data: struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))
    packer, rows = zlib.compressobj(9), b""
    for _ in range(height):
        rows += packer.compress(bytes(1 + width))
    head = struct.pack(">IIBBBBB", width, height, 8, 0, 0, 0, 0)
    return b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", head) + chunk(b"IDAT", rows + packer.flush()) + chunk(b"IEND", b"")


def _spiral(corners: int) -> str:
    """A polygon that winds inwards and out again."""
    turn = np.linspace(0, 60 * np.pi, corners // 2)
    out = np.concatenate([turn + 1, (turn + 2.5)[::-1]])
    at = np.concatenate([turn, turn[::-1]])
    x, z = out * np.cos(at), out * np.sin(at)
    lines = "".join(f"v {a:.4g} 0 {b:.4g}\n" for a, b in zip(x, z, strict=True))
    return lines + "f " + " ".join(map(str, range(1, len(out) + 1)))


def _layers(count: int, more: str = "") -> str:
    """A quilt file of so many layers; of all but the lowest more is said."""
    lines = (f'[[layer]]\nswatch = "clay"\nlabel = "{n}"\n{more if n else ""}' for n in range(count))
    return _GROUND + _CLAY + "".join(lines)


FILES: dict[str, Callable[[], str | bytes]] = {
    "ply: rows of nothing.ply": lambda: _PLY.format(0) + "element none 2000000000\nend_header\n",
    "ply: rows of nothing, binary.ply": lambda: (_PLY.format(0) + "element none 2000000000\nend_header\n").replace(
        "ascii", "binary_little_endian"
    ),
    "ply: more rows than bytes.ply": lambda: _PLY.format(2000000000) + "end_header\n0 0 0\n",
    "ply: fewer than none.ply": lambda: _PLY.format(-5) + _FACES.format(1) + "end_header\n3 0 1 2\n",
    "ply: a list longer than the file.ply": lambda: (
        _PLY.format(3).encode()
        + b"element face 2\nproperty list uint int vertex_indices\nend_header\n".replace(b"ascii", b"")
        + bytes(36)
        + b"\xff\xff\xff\xff"
    ).replace(b"ascii", b"binary_little_endian"),
    "ply: faces of a byte.ply": lambda: (
        (_PLY.format(3) + _FACES.format(900000) + "end_header\n").replace("ascii", "binary_little_endian").encode()
        + bytes(36)
        + b"\x03"
        + bytes(12)
        + bytes(900000)
    ),
    "ply: short lists of text.ply": lambda: (
        _PLY.format(3) + _FACES.format(400000) + "end_header\n" + "0 0 0\n" * 3 + "3 0 1 2\n" + "0\n" * 400000
    ),
    "ply: many properties.ply": lambda: (
        _PLY.format(3) + "".join(f"property float p{n}\n" for n in range(40000)) + _FACES.format(1) + "end_header\n"
    ),
    "obj: one face of many corners.obj": lambda: _TRIANGLE + "f" + " 1 2 3" * 160000,
    "obj: a spiral.obj": lambda: _spiral(40000),
    "obj: a comb.obj": lambda: (
        "".join(f"v {n} 0 {n % 2 * 50}\n" for n in range(50000)) + f"v 0 0 -1\nf {' '.join(map(str, range(1, 50002)))}"
    ),
    "obj: noise.obj": lambda: (
        "".join(f"v {a} 0 {b}\n" for a, b in np.random.default_rng(1).integers(0, 9999, (45000, 2)))
        + f"f {' '.join(map(str, range(1, 45001)))}"
    ),
    "obj: many small dents.obj": lambda: "v 0 0 0\nv 3 0 0\nv 1 0 1\nv 0 0 3\n" + "f 1 2 3 4\n" * 98000,
    "obj: faces of all lengths.obj": lambda: (
        _TRIANGLE + "".join("f" + " 1 2 3" * n + " 1" * each + "\n" for n in range(1, 300) for each in range(3))
    ),
    "obj: a part for each face.obj": lambda: _TRIANGLE + "".join(f"usemtl m{n}\nf 1 2 3\n" for n in range(45000)),
    "obj: parts of one name.obj": lambda: _TRIANGLE + "".join(f"o a\nusemtl {n}\nf 1 2 3\n" for n in range(40000)),
    "obj: libraries.obj": lambda: _TRIANGLE + "f 1 2 3\n" + "".join(f"mtllib {n}\n" for n in range(70000)),
    "obj: a line of libraries.obj": lambda: _TRIANGLE + "f 1 2 3\nmtllib" + " a b" * 240000,
    "obj: lines of nothing.obj": lambda: _TRIANGLE + "f 1 2 3\n" + "q\n" * 480000,
    "obj: words of their own.obj": lambda: _TRIANGLE + "f 1 2 3\n" + "".join(f"q{n}\n" for n in range(130000)),
    "obj: one line.obj": lambda: _TRIANGLE + "f 1 2 3\n" + "\\\n" * 480000,
    "obj: materials of one map.obj": lambda: _TRIANGLE + "f 1 2 3\nmtllib many.mtl\n",
    "gltf: an accessor of nothing.gltf": lambda: gltf(accessors=[{"componentType": 5126, "type": "VEC3", "count": 2000000000}]),
    "gltf: many of nothing.gltf": lambda: gltf(
        accessors=[{"componentType": 5126, "type": "VEC3", "count": 30000000, "sparse": {"count": 0}}]
    ),
    "gltf: a mesh placed often.gltf": lambda: _long_gltf(9000, nodes=[{"mesh": 0}] * 35000),
    "gltf: primitives of one accessor.gltf": lambda: _long_gltf(
        3000, meshes=[{"primitives": [{"attributes": {"POSITION": 0}}] * 15000}]
    ),
    "gltf: materials of one picture.gltf": lambda: gltf(
        images=[{"uri": "data:image/png;base64," + "A" * 400000}],
        textures=[{"source": 0}],
        materials=[{"pbrMetallicRoughness": {"baseColorTexture": {"index": 0}}}] * 8000,
    ),
    "gltf: names alike.gltf": lambda: gltf(materials=[{"name": "a"}] * 60000),
    "gltf: nodes of one name.gltf": lambda: gltf(nodes=[{"mesh": 0, "name": "a"}] * 40000),
    "gltf: a chain of nodes.gltf": lambda: gltf(
        nodes=[*({"children": [n + 1]} for n in range(45000)), {"mesh": 0}], scenes=[{"nodes": [0]}]
    ),
    "gltf: nested.gltf": lambda: b'{"a":' + b"[" * 400000,
    "gltf: long numbers.gltf": lambda: b'{"asset":{"version":2},"a":' + b"9" * 900000 + b"}",
    "gltf: strips.gltf": lambda: _long_gltf(18000, meshes=[{"primitives": [{"attributes": {"POSITION": 0}, "mode": 5}] * 500}]),
    "quilt: layers.toml": lambda: _layers(22000),
    "quilt: layers that are wrong.toml": lambda: _layers(16000, "softness = 7\n"),
    "quilt: layers of unknown swatches.toml": lambda: _layers(20000).replace('swatch = "clay"', 'swatch = "cloy"'),
    "quilt: swatches.toml": lambda: "".join(f'[[swatch]]\nname = "{n}"\nplain = {{ diffuse = 1 }}\n' for n in range(20000)),
    "quilt: swatches and layers.toml": lambda: (
        _GROUND
        + "".join(f'[[swatch]]\nname = "{n}"\nplain = {{ diffuse = 1 }}\n' for n in range(12000))
        + "".join(f'[[layer]]\nswatch = "{n}"\n' for n in range(4000))
    ),
    "quilt: steps of a mask.toml": lambda: (
        _layers(2) + "".join('[[layer.mask]]\nkind = "height"\nband = [0, 1]\n' for _ in range(20000))
    ),
    "quilt: masks within masks.toml": lambda: (
        _layers(2) + "mask = [" + '{kind = "any", of = [' * 3000 + '{kind = "height", band = [0, 1]}' + "]}" * 3000 + "]\n"
    ),
    "quilt: shares of shares.toml": lambda: (
        _GROUND
        + _CLAY
        + '[[layer]]\nswatch = "clay"\nlabel = "0"\n[[layer]]\nswatch = "clay"\nlabel = "1"\n'
        + 'mask = [{kind = "height", band = [0, 1]}]\n'
        + "".join(
            f'[[layer]]\nswatch = "clay"\nlabel = "{n}"\n'
            f'mask = [{{ kind = "layer", layer = "{n - 1}" }}, {{ kind = "layer", layer = "{n - 1}", combine = "add" }}]\n'
            for n in range(2, 4000)
        )
    ),
    "quilt: formulas.toml": lambda: _layers(
        3000, 'mask = [{ kind = "noise", size = "= ' + "1 + " * 50 + '1", threshold = 0.5 }]\n'
    ),
    "quilt: towers of powers.toml": lambda: _layers(2, 'softness = "= 9**9**9**9**9"\n'),
    "quilt: rounding.toml": lambda: _layers(2, 'softness = "= round(1, -100000000)"\n'),
    "quilt: a dotted key.toml": lambda: "a" + ".a" * 400000 + " = 1\n",
    "quilt: dotted tables.toml": lambda: "[a" + ".a" * 400000 + "]\n",
    "quilt: many dotted keys.toml": lambda: "".join(f"a{'.a' * 200}.b{n} = 1\n" for n in range(2300)),
    "quilt: nested lists.toml": lambda: "a = " + "[" * 400000,
    "quilt: a long number.toml": lambda: "a = " + "9" * 900000,
    "quilt: unknown keys.toml": lambda: _CLAY + "".join(f"a{n} = 1\n" for n in range(80000)),
    "quilt: unknown tables.toml": lambda: _CLAY + "".join(f"[a{n}]\n" for n in range(90000)),
    "quilt: meshes.toml": lambda: (
        _CLAY + "".join(f'[[mesh]]\nname = "{n}"\nfile = "a.obj"\nlayer = [{{ swatch = "clay" }}]\n' for n in range(13000))
    ),
    "quilt: channels and films.toml": lambda: (
        _layers(2)
        + "".join(f'[[channel]]\nname = "{n}"\n' for n in range(12000))
        + "".join(f'[[film]]\nmask = [{{ kind = "channel", channel = "{n}" }}]\nroughness = 1\n' for n in range(8000))
    ),
    "quilt: a medley.toml": lambda: _CLAY + '[[medley]]\nname = "m"\nby = "noise"\nswatches = [' + '"clay", ' * 90000 + "]\n",
    "quilt: words.toml": lambda: _CLAY + "[names]\n" + "".join(f'w{n} = "diffuse"\n' for n in range(40000)),
    "daubs: one long path.jsonl": lambda: (
        '{"layer": "salt", "radius": 1, "path": [' + ", ".join("[1, 2]" for _ in range(100000)) + "]}\n"
    ),
    "daubs: many.jsonl": lambda: '{"layer": "salt", "radius": 1, "path": [[1, 2]]}\n' * 19000,
    "daubs: nested.jsonl": lambda: '{"layer": ' + "[" * 400000,
    "daubs: unknown keys.jsonl": lambda: "{" + ", ".join(f'"k{n}": 1' for n in range(60000)) + "}\n",
    "npy: more than there is.npy": lambda: (
        b"\x93NUMPY\x01\x00\x76\x00" + b"{'descr': '<f4', 'fortran_order': False, 'shape': (60000, 60000), }".ljust(117) + b"\n"
    ),
    "npy: a head of nothing.npy": lambda: b"\x93NUMPY\x02\x00\xff\xff\x0f\x00" + b"(" * 900000,
    "png: wider than may be.png": lambda: _png(200000, 3),
    "png: higher than may be.png": lambda: _png(3, 200000),
}


def read_each(asked: object, answers: object) -> None:
    """In a child process: read files, and tell of each what is said and what it cost."""
    warnings.simplefilter("ignore")
    answers.put("begun")  # type: ignore[attr-defined]
    while path := asked.get():  # type: ignore[attr-defined]
        before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
        began = time.monotonic()
        try:
            READERS[path.suffix](path)
            said = "read"
        except jq.QuiltError as error:
            said = str(error).replace(str(path.parent) + "/", "")
        except BaseException as error:  # told, whatever it is
            said = f"wrong: {type(error).__name__}: {str(error)[:80]}"
        spent, after = time.monotonic() - began, resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
        answers.put((said, spent, (after - before) / 1024))  # type: ignore[attr-defined]


class Reader:
    """A child process that reads files, and another when it dies or takes too long."""

    def __init__(self) -> None:
        self._start()

    def _start(self) -> None:
        context = multiprocessing.get_context("spawn")
        self.asked, self.answers = context.Queue(), context.Queue()
        self.child = context.Process(target=read_each, args=(self.asked, self.answers), daemon=True)
        self.child.start()
        self.answers.get(timeout=60)

    def cost(self, path: Path) -> tuple[str, float, float]:
        """Return what is said of a file, the seconds and the MiB that it took above what others took before."""
        self.asked.put(path)
        try:
            reported: tuple[str, float, float] = self.answers.get(timeout=SECONDS + 3)
            return reported
        except queue.Empty:
            self.child.kill()
            self.child.join()
            self._start()
            return "wrong: too slow, or it died", float(SECONDS + 3), 0.0


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__.split("\n\n", maxsplit=1)[0])
    parser.add_argument("--quick", action="store_true")
    parser.add_argument("--only", default="")
    reported = parser.parse_args()
    wrong, slowest, count, reader = [], 0.0, 0, Reader()
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        write_image(folder / "ground.png", np.zeros((9, 9), np.uint8))
        (folder / "a.obj").write_text(_TRIANGLE + "f 1 2 3\n")
        (folder / "many.mtl").write_text("".join(f"newmtl {n}\nbump ground.png\nmap_Kd g{n}.png\n" for n in range(20000)))
        for each, make in FILES.items():
            if reported.only not in each:
                continue
            made = make()
            path = folder / f"hostile{Path(each).suffix}"
            path.write_bytes(made if isinstance(made, bytes) else made.encode())
            size = path.stat().st_size
            if size >= 1_000_000:
                raise SystemExit(f"{each}: {size} bytes")
            if reported.quick and size > 300_000:
                continue
            said, spent, mib = reader.cost(path)
            bad = said.startswith("wrong") or spent > SECONDS or mib > MIB or len(said) > 20_000
            wrong += [each] if bad else []
            slowest, count = max(slowest, spent), count + 1
            costs = f"{size / 1000:>7.0f} kB{spent:>7.2f} s{mib:>6.0f} MiB"
            print(f"{'! ' if bad else '  '}{Path(each).stem:<38}{costs}  {said[:120]!r}", flush=True)
    print(json.dumps({"files": count, "wrong": len(wrong), "slowest_seconds": round(slowest, 2)}))
    return 1 if wrong else 0


if __name__ == "__main__":
    sys.exit(main())
