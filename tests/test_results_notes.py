"""What is allowed in a quilt file and cannot well be meant is noted with its figure, and is never a fault."""

import json

import pytest

import jagged_quilt as jq
from conftest import QUILT, jquilt, made_maps
from jagged_quilt.images import write_image
from jagged_quilt.results.quilt_notes import notes_on

BAND, STEP = "band = [1.0, 2.0]", 'kind = "height"\nband = [1.0, 2.0]\nfade = 0.5'
ODD = {
    "too steep": ("heights = [0.0, 4.0]", "heights = [0.0, 4000.0]", "surface", "half of it is steeper than 9"),
    "radians": (STEP, 'kind = "slope"\nband = [0.0, 0.7]', "layer[1].mask[0].band", "to 0.7 degrees"),
    "above": (BAND, "band = [80.0, 90.0]", "layer[1].mask[0].band", "the ground has 0.00 to 4.00 m"),
    "nowhere": (BAND, "band = [80.0, 90.0]", "layer[1]", "nowhere: nothing is left after mask[0], height 80 to 90 m"),
    "second step": ("size = 5.0", "size = 5.0\nthreshold = 1.0\nrange = 0.0", "layer[1]", "nothing is left after mask[1], "),
    "tile": ("tile = 3.0", "tile = 30.0", "swatch[1].tile", 'a tile of "salt" covers 30 m, more than the ground, 16 m'),
}


@pytest.mark.parametrize("name", ODD)
def test_what_is_odd_is_noted_with_its_figure(project, name):
    before, after, key, said = ODD[name]
    assert before in QUILT
    path = project / "job.quilt.toml"
    path.write_text(QUILT.replace(before, after))
    found = {note.key: note.what for note in notes_on(jq.read_quilt(path))}
    assert said in found[key]


def test_what_is_plausible_is_not_noted(project, saltworks):
    assert notes_on(jq.read_quilt(project / "job.quilt.toml")) == []
    assert json.loads(jquilt("check", saltworks, "--json")[1])["quilt"] == []


def test_a_layer_that_another_covers_names_it(project):
    path = project / "job.quilt.toml"
    path.write_text(QUILT + '[[layer]]\nswatch = "clay"\nname = "all"\n[[layer.mask]]\nkind = "slope"\nband = [0.0, 180.0]\n')
    found = [note.what for note in notes_on(jq.read_quilt(path))]
    assert [what.rpartition(": ")[2] for what in found] == ['"all" lies over it', '"all" lies over it']


def test_a_coarse_swatch_and_a_flat_heightmap_are_noted(project):
    for name in ("sand", "reed"):
        for role, each in made_maps(5, side=32).items():
            write_image(project / name / f"{name}_{role.key}.png", each.texels.copy())
    swatch = '[[swatch]]\nname = "{0}"\nfolder = "{0}"\ntile = {1}\n'
    layer = '[[layer]]\nswatch = "{0}"\nmask = [{{ kind = "noise", size = 5.0 }}]\n'
    more = "".join((swatch + layer).format(*each) for each in (("sand", 15.9), ("reed", 0.5)))
    path = project / "job.quilt.toml"
    path.write_text(QUILT.replace("tile = 2.0", "tile = 0.4") + more)
    found = {note.key: note.what for note in notes_on(jq.read_quilt(path))}
    assert '"sand" has 2.01 texels a metre' in found["swatch[2].tile"]
    texels = jq.images.read_image(project / "ground.png")
    write_image(project / "ground.png", texels // 8)
    path.write_text(QUILT)
    assert "uses 12 % of its range" in {note.key: note.what for note in notes_on(jq.read_quilt(path))}["surface.heights"]


def test_check_lists_them_and_stays_content(project):
    path = project / "job.quilt.toml"
    path.write_text(QUILT.replace("tile = 3.0", "tile = 30.0"))
    code, plain, _ = jquilt("check", path)
    assert "note: swatch[1].tile: a tile of" in plain
    assert "the metres that one repeat" not in plain
    assert "the metres that one repeat" in jquilt("check", path, "--notes")[1]
    assert json.loads(jquilt("check", path, "--json")[1])["quilt"][0]["key"] == "swatch[1].tile"
    path.write_text(QUILT)
    assert jquilt("check", path)[0] == code
