"""Kernels: each compiled once, the same bytes from the cache, and helpers that answer the same without the compiler."""

import json
import os
import re
import shutil
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest

from compile_kernels import write_jar_project
from conftest import COMPILED, compile_kernels
from jagged_quilt.blend import _lane_kernels as numbers
from jagged_quilt.blend import _sample_kernels as samples
from jagged_quilt.blend import _texel_kernels as texels
from jagged_quilt.foundation.choices import Wrap

SOURCE = Path(__file__).parents[1] / "src"
RUN_ALL = """
import json, sys
import jagged_quilt as jq
from jagged_quilt.foundation.compiler import KERNELS
quilt = jq.read_quilt(sys.argv[1])
jq.run(quilt, "bake", "bake jar", "view", out=sys.argv[2], force=True)
told = {f"{k.py_func.__module__}.{k.py_func.__name__}": [str(s) for s in k.signatures] for k in KERNELS}
print(json.dumps(told))
"""


def bytes_of(folder):
    return {p.relative_to(folder).as_posix(): p.read_bytes() for p in folder.rglob("*") if p.suffix in (".png", ".ktx2")}


def test_compiled_or_from_the_cache_the_bytes_are_the_same(tmp_path):
    """The first process compiles, the second one loads; the session's first process is taken where it compiled."""
    one, cache = Path(os.environ[COMPILED]), os.environ.get("NUMBA_CACHE_DIR", "")
    if int((one / "compiled").read_text()) == 0:
        one, cache = tmp_path / "one", str(tmp_path / "cache")
        assert compile_kernels("blend", one, NUMBA_CACHE_DIR=cache).wait() == 0
    assert compile_kernels("blend", tmp_path / "two", NUMBA_CACHE_DIR=cache).wait() == 0
    assert int((one / "compiled").read_text()) > 0
    assert (tmp_path / "two" / "compiled").read_text() == "0"
    baked = bytes_of(one / "out")
    assert len(baked) == 9
    assert baked == bytes_of(tmp_path / "two" / "out")


def test_each_kernel_is_one(tmp_path):
    """It may differ by the dtypes that it is for, and by nothing else: not by what may be written to, nor by layout."""
    words = [sys.executable, "-c", RUN_ALL, write_jar_project(tmp_path), tmp_path / "out"]
    known = json.loads(subprocess.run(words, capture_output=True, text=True, check=True).stdout.splitlines()[-1])
    assert sum(bool(signatures) for signatures in known.values()) > 20
    for name, signatures in known.items():
        plain = {re.sub(r"u?int\d+|float\d+", "number", each) for each in signatures}
        assert len(plain) <= 1, f"{name} was compiled for {signatures}"


def test_a_change_in_a_file_of_helpers_is_noticed(tmp_path):
    """The cache goes by what stands in all files of loops that a kernel is made of, and by no other."""
    shutil.copytree(SOURCE / "jagged_quilt", tmp_path / "jagged_quilt", ignore=shutil.ignore_patterns("__pycache__"))
    code = "from jagged_quilt.blend._kernels import blend_points as k; print(k._cache._cache_file._source_stamp)"

    def stamp():
        env = {**os.environ, "PYTHONPATH": str(tmp_path), "NUMBA_CACHE_DIR": str(tmp_path / "cache")}
        return subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True, env=env).stdout

    changes = [("arrays", "_kernels.py", False), ("maps", "swatch.py", False)]
    changes += [("blend", "_texel_kernels.py", True), ("maps", "roles.py", True)]  # from which comes how many rows there are
    for room, file, concerns in changes:
        before = stamp()
        path = tmp_path / "jagged_quilt" / room / file
        path.write_text(path.read_text() + "\nCHANGED = 1\n")
        assert (stamp() != before) == concerns, path.name


class TestHelpers:
    """As plain Python, without the compiler, against closed forms."""

    def test_logarithms_and_powers(self, monkeypatch):
        monkeypatch.setattr(numbers, "power_of_two", numbers.power_of_two.py_func)
        for x in np.geomspace(1e-3, 1e4, 40, dtype=np.float32):
            assert numbers.log2.py_func(x) == pytest.approx(np.log2(x), abs=4e-6)
        for x in np.linspace(-20, 20, 41, dtype=np.float32):
            assert numbers.exp2.py_func(x) == pytest.approx(2.0 ** float(x), rel=3e-7)

    def test_bits_are_in_order(self):
        values = np.float32([0, 1e-30, 0.5, 1, 3.5e7])
        bits = [numbers.as_bits.py_func(each) for each in values]
        assert bits == sorted(bits)
        assert [numbers.as_number.py_func(each) for each in bits] == list(values)

    def test_channels_of_a_texel(self):
        texel = np.uint32(0x80FF4001)
        for channel, byte in enumerate((0x01, 0x40, 0xFF, 0x80)):
            mask, scale = texels.channel_bits.py_func(channel)
            assert texels.plain.py_func(texel, mask, scale) == pytest.approx(byte / 255, rel=1e-6)
            light = ((byte / 255 + 0.055) / 1.055) ** 2.4 if byte > 10 else byte / 255 / 12.92
            if channel < 3:  # colour
                assert texels.linear.py_func(texel, mask, scale) == pytest.approx(light, rel=4e-3)

    def test_corners_share_out_all(self):
        for fx, fy in np.random.default_rng(1).random((20, 2), np.float32):
            shares = texels.corner_weights.py_func(fx, fy)
            assert sum(shares) == pytest.approx(1, abs=1e-6)
            assert shares == pytest.approx(((1 - fx) * (1 - fy), fx * (1 - fy), (1 - fx) * fy, fx * fy), abs=1e-6)

    def test_what_lies_beyond_a_tile(self):
        """Texels of a tile of 4: repeated, the border's, mirrored, or the border's then the mirror's."""
        ways = {"repeat": [3, 0, 3, 0], "clamp": [0, 0, 3, 3], "mirror": [0, 0, 3, 3]}
        for wrap, wanted in ways.items():
            got = [samples._folded.py_func(np.int32(i), np.int32(Wrap(wrap).code), np.int32(4)) for i in (-1, 0, 3, 4)]
            assert [int(each) for each in got] == wanted, wrap


def test_without_the_compiler_a_whole_blend_gives_the_same_bytes(tmp_path):
    """All loops as plain Python: packing, laying out, sampling, mixing and encoding."""
    code = (
        "import sys, numpy as np, jagged_quilt as jq\n"
        "from conftest import made_swatch\n"
        "swatches = [made_swatch(name, seed, side=4) for seed, name in enumerate('ab')]\n"
        "arrays = jq.pack(swatches, side=4, work=jq.Work(threads=1))\n"
        "ways = [jq.Uv(), jq.Triplanar(4, rotation=20), jq.Box(filter='anisotropic'), jq.Planar(scale=2)]\n"
        "steep = jq.Slope(0, 30, fade=20)\n"
        "layers = [jq.Layer('ab'[n % 2], way, label=str(n), mask=steep * min(n, 1)) for n, way in enumerate(ways)]\n"
        "layers[0] = jq.Layer('a', ways[0], label='0')\n"
        "ground = jq.Terrain(np.random.default_rng(1).random((5, 5)) * 2, size=(4, 4))\n"
        "maps = jq.bake(ground.canvas(7), layers, arrays, work=jq.Work(threads=1))\n"
        "np.savez(sys.argv[1], **{role.key: each for role, each in maps.items()})"
    )
    env = {**os.environ, "PYTHONPATH": os.pathsep.join([str(SOURCE), str(Path(__file__).parent)])}
    made = []
    for off in ("0", "1"):
        path = tmp_path / f"{off}.npz"
        subprocess.run([sys.executable, "-W", "ignore", "-c", code, path], check=True, env={**env, "NUMBA_DISABLE_JIT": off})
        made.append(np.load(path))
    assert len(made[0].files) == 6
    for key in made[0].files:
        assert np.abs(made[0][key].astype(int) - made[1][key]).max() <= 1, key
