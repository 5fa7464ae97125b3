"""The examples in docstrings: every public function has one, and each gives what it says."""

import doctest
import importlib
import inspect
from pathlib import Path

import numpy as np
import pytest

import jagged_quilt as jq
from jagged_quilt.images import write_image

SOURCE = Path(jq.__file__).parent
MODULES = [path for path in sorted(SOURCE.rglob("*.py")) if ">>> " in path.read_text()]
WINDOWS = (jq, jq.images, jq.convert, jq.shapes, jq.daubs, jq.adopt, jq.export, jq.show, jq.audit)
QUILT = """
[surface]
terrain = "height.png"
size = [256.0, 256.0]
heights = [0.0, 38.0]
[weights]
texels = 64
[[swatch]]
name = "clay"
folder = "swatches/clay"
tile = 3.0
[[swatch]]
name = "salt"
folder = "swatches/salt"
tile = 3.0
[[layer]]
swatch = "clay"
[[layer]]
swatch = "salt"
[[layer.mask]]
kind = "height"
band = [2.0, 6.0]
"""


@pytest.fixture(scope="module")
def heights():
    y, x = np.mgrid[0:33, 0:33] / 32
    return (2 * np.sin(2 * x + y) + 0.5 * y).astype(np.float32)


@pytest.fixture(scope="module")
def folder(tmp_path_factory, heights):
    """The files that the examples name."""
    out, rng = tmp_path_factory.mktemp("examples"), np.random.default_rng(1)
    write_image(out / "height.png", ((heights - heights.min()) / np.ptp(heights) * 65535).astype(np.uint16)[..., None])
    for name, colour in (("clay", (128, 80, 50)), ("salt", (230, 228, 215))):
        (out / "swatches" / name).mkdir(parents=True)
        texels = np.clip(rng.normal(colour, 6, (32, 32, 3)), 0, 255).astype(np.uint8)
        write_image(out / "swatches" / name / "diffuse.png", texels)
        write_image(out / "swatches" / name / "height.png", rng.integers(0, 255, (32, 32, 1), dtype=np.uint8))
    write_image(out / "splat.png", np.full((8, 8, 4), (100, 100, 55, 0), np.uint8))
    keys = np.repeat(np.array([[[255, 0, 0], [0, 0, 255]]], np.uint8), 8, axis=0).repeat(4, axis=1)
    write_image(out / "keys.png", keys)
    write_image(out / "index.png", rng.integers(0, 3, (8, 8, 1), dtype=np.uint8))
    write_image(out / "mask.png", rng.integers(0, 255, (8, 8, 1), dtype=np.uint8))
    write_image(out / "sky.exr", np.ones((32, 64, 3), np.float32))
    jq.export.write_mesh(jq.shapes.jar(), out / "jar.obj")
    (out / "saltworks.quilt.toml").write_text(QUILT)
    return out


@pytest.fixture(scope="module")
def given(heights):
    """What `help(jagged_quilt)` says that the examples begin with."""
    clay = jq.plain_swatch("clay", diffuse=(0.5, 0.3, 0.2))
    salt = jq.plain_swatch("salt", diffuse=(0.9, 0.9, 0.85))
    return {
        "jq": jq,
        "np": np,
        "ground": jq.Terrain(heights, size=(32.0, 32.0)),
        "clay": clay,
        "salt": salt,
        "arrays": jq.pack([clay, salt], side=16),
        "layers": [jq.Layer("clay"), jq.Layer("salt", mask=jq.HeightBand(0.2, 1.0))],
    }


@pytest.mark.parametrize("path", MODULES, ids=lambda path: path.relative_to(SOURCE).as_posix())
def test_an_example_gives_what_it_says(path, folder, given, monkeypatch):
    monkeypatch.chdir(folder)
    module = importlib.import_module(".".join(("jagged_quilt", *path.relative_to(SOURCE).with_suffix("").parts)))
    report = doctest.testmod(module, extraglobs=given, optionflags=doctest.NORMALIZE_WHITESPACE)
    assert not report.failed


@pytest.mark.parametrize("window", WINDOWS, ids=lambda window: window.__name__)
def test_every_public_function_has_an_example(window):
    functions = [name for name in window.__all__ if inspect.isroutine(getattr(window, name))]
    bare = [name for name in functions if ">>> " not in (getattr(window, name).__doc__ or "")]
    assert not bare
