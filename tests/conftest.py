"""A small project that every test may read, and made-up swatches."""

import json
import os
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

import numpy as np
import pytest

import jagged_quilt as jq
from jagged_quilt.demo.project import write_project
from jagged_quilt.images import write_image
from jagged_quilt.results.rehearsal import PARTS
from jagged_quilt.results.warm import remember

sys.path.append(str(Path(__file__).parents[1] / "benchmarks"))  # where the plain references lie

TESTS = Path(__file__).parent
COMPILED = "JAGGED_QUILT_TESTS_COMPILED"  # names the folder of what was baked while kernels were compiled


def compile_kernels(*words, **env):
    """Start a process that compiles or loads kernels; see compile_kernels.py."""
    words = [sys.executable, str(TESTS / "compile_kernels.py"), *map(str, words)]
    return subprocess.Popen(words, env={**os.environ, **env})


def pytest_sessionstart(session):
    """Compile the kernels once for all workers, in two processes."""
    if not hasattr(session.config, "workerinput"):
        os.environ[COMPILED] = tempfile.mkdtemp()
        for each in [compile_kernels("weights"), compile_kernels("blend", os.environ[COMPILED])]:
            assert each.wait() == 0
        remember(PARTS)


class WarmProcesses:
    """Starts `jquilt` processes that need not load the package first (see warm_jquilt.py)."""

    def __init__(self):
        self.folder = tempfile.TemporaryDirectory()
        words = [sys.executable, str(TESTS / "warm_jquilt.py")]
        self.server = subprocess.Popen(words, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True)
        assert self.server.stdout.readline() == "ready\n"

    def run(self, words, cwd, env):
        out, err = (Path(self.folder.name, name) for name in ("out", "err"))
        for path in (out, err):
            path.unlink(missing_ok=True)
        asked = {"words": words, "cwd": str(cwd or Path.cwd()), "env": env or {}, "out": str(out), "err": str(err)}
        self.server.stdin.write(json.dumps(asked) + "\n")
        self.server.stdin.flush()
        code = int(self.server.stdout.readline())
        return code, out.read_text(), err.read_text()

    def close(self):
        self.server.stdin.close()
        self.server.wait()
        self.server.stdout.close()
        self.folder.cleanup()


_warm = []


def pytest_sessionfinish(session):
    while _warm:
        _warm.pop().close()
    if not hasattr(session.config, "workerinput"):
        shutil.rmtree(os.environ.pop(COMPILED))


def jquilt(*words, cwd=None, env=None):
    """Run the command line as a process; return (exit code, standard output, standard error)."""
    if not _warm:
        _warm.append(WarmProcesses())
    return _warm[0].run(list(map(str, words)), cwd, env)


def fresh_jquilt(*words, **options):
    """Run the command line as a process that loads everything itself, as a user does."""
    done = subprocess.run(
        [sys.executable, "-m", "jagged_quilt", *map(str, words)], capture_output=True, text=True, timeout=300, **options
    )
    return done.returncode, done.stdout, done.stderr


QUILT = """\
title = "Two fields"
[surface]
terrain = "ground.png"
size = [16.0, 16.0]
heights = [0.0, 4.0]
[arrays]
side = 16
[weights]
texels = 32
[bake]
texels = 32
[[swatch]]
name = "clay"
folder = "clay"
tile = 2.0
[[swatch]]
name = "salt"
folder = "salt"
tile = 3.0
[[layer]]
swatch = "clay"
[[layer]]
swatch = "salt"
projection = "triplanar"
[[layer.mask]]
kind = "height"
band = [1.0, 2.0]
fade = 0.5
[[layer.mask]]
kind = "noise"
size = 5.0
"""


def made_maps(seed, side=16, roles=jq.SURFACE_ROLES):
    """Random maps of some roles, normals unit; as `TextureMap`s."""
    rng = np.random.default_rng(seed)
    texels = {role: rng.integers(0, 256, (side, side, role.value.channels), dtype=np.uint8) for role in roles}
    for role in (each for each in roles if each.value.direction):
        vectors = np.concatenate([rng.uniform(-0.6, 0.6, (side, side, 2)), np.ones((side, side, 1))], axis=2)
        vectors /= np.linalg.norm(vectors, axis=2, keepdims=True)
        texels[role] = np.rint(vectors * 127.5 + 127.5).astype(np.uint8)
    return {role: jq.TextureMap(role=role, texels=t) for role, t in texels.items()}


def made_swatch(name, seed=0, side=16, tile=2.0, relief=0.1, roles=jq.SURFACE_ROLES):
    return jq.Swatch(name=name, tile=tile, relief=relief, maps=made_maps(seed, side, roles))


def write_small_project(folder):
    """Write a small quilt file, `job.quilt.toml`, and all that it names; return the folder."""
    v, u = np.mgrid[:17, :17] / 16
    write_image(folder / "ground.png", (65535 * (0.5 + 0.5 * np.sin(5 * u) * np.cos(4 * v))).astype(np.uint16))
    for seed, name in enumerate(("clay", "salt")):
        for role, each in made_maps(seed).items():
            write_image(folder / name / f"{name}_{role.key}.png", np.array(each.texels))
    (folder / "job.quilt.toml").write_text(QUILT)
    return folder


@pytest.fixture
def project(tmp_path):
    return write_small_project(tmp_path)


@pytest.fixture(scope="session")
def saltworks(tmp_path_factory):
    """The demo project, with maps of 64 texels; its quilt file makes small results."""
    folder = tmp_path_factory.mktemp("demo") / "saltworks"
    quilt_file = write_project(folder, texels=64)
    text = quilt_file.read_text().replace("side = 512", "side = 64").replace("texels = 1024", "texels = 256")
    quilt_file.write_text(text.replace("texels = 2048", "texels = 256"))
    return quilt_file


@pytest.fixture
def own_saltworks(saltworks, tmp_path):
    """A copy of the demo project to change."""
    shutil.copytree(saltworks.parent, tmp_path / "own", ignore=shutil.ignore_patterns("out"))
    return tmp_path / "own" / saltworks.name
