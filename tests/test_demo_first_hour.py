"""docs/first_hour.md: every line of it, at the prompt and in Python, on files as they are downloaded."""

import re
import shlex
from pathlib import Path

import numpy as np
import pytest

from conftest import jquilt
from jagged_quilt.images import read_image, write_image

PAGE = (Path(__file__).parents[1] / "docs" / "first_hour.md").read_text()


@pytest.fixture(scope="module")
def home(tmp_path_factory):
    out, rng = tmp_path_factory.mktemp("first hour"), np.random.default_rng(4)
    for name, colour in (("grass", (70, 100, 40)), ("rock", (120, 118, 112)), ("sand", (190, 170, 130))):
        grey = np.clip(rng.normal(128, 20, (64, 64, 1)), 0, 255)
        write_image(out / "downloads" / name / f"{name}_albedo.png", np.clip(grey - 128 + colour, 0, 255).astype(np.uint8))
        write_image(out / "downloads" / name / f"{name}_height.png", grey.astype(np.uint8))
    v, u = np.mgrid[:65, :65] / 64
    write_image(out / "hills.png", np.rint(65535 * (0.5 + 0.5 * np.sin(7 * u) * np.cos(6 * v + u))).astype(np.uint16))
    return out


def test_every_line_at_the_prompt(home):
    lines = [line for block in re.findall(r"```sh\n(.*?)```", PAGE, re.DOTALL) for line in block.splitlines()]
    assert len(lines) >= 8
    for line in lines:
        code, said, errors = jquilt(*shlex.split(line)[1:], cwd=home)
        assert code == 0 or (code == 1 and " check " in line), (line, errors, said)
    assert read_image(home / "place" / "out" / "pictures" / "view.png").shape == (800, 1280, 3)
    assert (home / "place" / "out" / "export" / "scene.glb").is_file()


def test_every_line_in_python(home, monkeypatch):
    monkeypatch.chdir(home)
    given = {}
    for block in re.findall(r"```python\n(.*?)```", PAGE, re.DOTALL):
        exec(block, given)
    assert given["picture"].shape == (800, 1280, 3)
    assert given["weights"].shares()["grass"] > 0.2
    assert {path.name for path in (home / "baked").iterdir()} >= {"diffuse.png", "normal.png", "bake.json"}
    assert (home / "place.glb").read_bytes()[:4] == b"glTF"
