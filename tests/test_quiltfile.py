"""Quilt files: every key reaches the object that it means, and every mistake names its place."""

import json
import subprocess
import sys
import textwrap
import tomllib
from pathlib import Path

import jsonschema
import numpy as np
import pytest

import jagged_quilt as jq
from conftest import QUILT, jquilt
from jagged_quilt.errors import QuiltFileError
from jagged_quilt.quiltfile.key_paths import line_of, lines_of_keys, words_of
from jagged_quilt.quiltfile.unknown_keys import shipped_schema, unknown_keys
from jagged_quilt.results.results import Results

TEXT = """\
title = "x"  # [not.a.table]
[surface]
size = [
  1.0,  # [nor this]
  2.0,
]
[[layer]]
swatch = "a"
[[layer]]
swatch = 'has # and ['
  [[layer.mask]]
  kind = "noise"
  [[layer.mask]]
  kind = "height"
  band = [1.0, 2.0]
[[layer]]
[[layer.mask]]
"odd key" = 1
"""


class TestPlaces:
    def test_every_key_has_its_line(self):
        found = lines_of_keys(TEXT)
        assert found["title",] == 1
        assert found["surface", "size"] == 3
        assert found["layer", 1] == 9
        assert found["layer", 1, "swatch"] == 10
        assert found["layer", 1, "mask", 1, "band"] == 15
        assert found["layer", 2, "mask", 0] == 17
        assert found["layer", 2, "mask", 0, "odd key"] == 18
        assert len([path for path in found if path[-1] == "size"]) == 1

    def test_a_missing_key_has_the_line_of_its_table(self):
        assert line_of(TEXT, ("layer", 1, "mask", 0, "size")) == 11
        assert line_of(TEXT, ("view", "camera")) is None
        assert words_of(("layer", 2, "mask", 0, "band")) == "layer[2].mask[0].band"


def built(project, text):
    (project / "job.quilt.toml").write_text(text)
    return jq.read_quilt(project / "job.quilt.toml")


def with_masks(*steps):
    """The quilt file of the tests with other masks on its upper layer."""
    head = QUILT[: QUILT.index("[[layer.mask]]")]
    return head + "".join(f"[[layer.mask]]\n{step}\n" for step in steps)


class TestQuilt:
    def test_what_it_builds_is_what_it_says(self, project):
        quilt = built(project, QUILT)
        assert [layer.name for layer in quilt.layers] == ["clay", "salt"]
        assert (quilt.layers[0].projection, quilt.layers[1].projection) == (jq.Planar(), jq.Triplanar(4.0))
        assert quilt.layers[1].mask == jq.HeightBand(1, 2, 0.5) * jq.Noise(size=5.0)
        assert quilt.terrain.size == (16, 16)
        assert [(s.name, s.tile, s.relief) for s in quilt.swatches] == [("clay", 2, 0.05), ("salt", 3, 0.05)]

    def test_mask_steps_go_upon_each_other_in_order(self, project):
        height = 'kind = "height"\nband = [1.0, 3.0]\nfade = 1.0'
        slope = 'kind = "slope"\nband = [0.0, 10.0]\nfade = 20.0'
        a, b, half = jq.HeightBand(1, 3, 1), jq.Slope(0, 10, 20), 'kind = "constant"\nvalue = 0.5'
        points = jq.Terrain(np.random.default_rng(0).random((9, 9)) * 4, size=(16, 16)).points((20, 20))
        for steps, wanted in (
            ([height], a),
            ([height + "\ninvert = true"], ~a),
            ([height + "\nstrength = 0.25"], a * 0.25),
            ([height + '\ncombine = "subtract"'], ~a),
            ([height, slope], a * b),
            ([height, slope + '\ncombine = "maximum"'], a | b),
            ([height, slope + '\ncombine = "minimum"'], a & b),
            ([height, slope + '\ncombine = "add"', half + '\ncombine = "subtract"'], (a + b) - 0.5),
            ([height, slope + '\ncombine = "subtract"\ninvert = true'], a - ~b),
        ):
            mask = built(project, with_masks(*steps)).layers[1].mask
            assert np.abs(mask.answer(points) - wanted.answer(points)).max() < 1e-6, steps

    @pytest.mark.parametrize(
        ("change", "words"),
        [
            (("fade = 0.5", "fade = -1.0"), r"line 28, layer\[1\]\.mask\[0\]\.fade: height fade must be at least 0 m"),
            (("size = 5.0", "size = 5.0\noctaves = 99"), r"line 32, layer\[1\]\.mask\[1\]\.octaves: noise octaves must be"),
            (("size = 5.0", 'size = "wide"'), r"line 31, layer\[1\]\.mask\[1\]\.size: must be a valid number; got 'wide'"),
            (('kind = "noise"', "seed = 3"), r"line 29, layer\[1\]\.mask\[1\]: a mask needs its kind"),
            (("size = [16.0, 16.0]", "size = [16.0]"), r"line 4, surface\.size: must have 2 values; got \[16\.0\]"),
            (("size = [16.0, 16.0]", "size = [16.0, -1.0]"), r"line 3, surface\.terrain: size south must be above 0 m"),
            (("heights = [0.0, 4.0]", "heights = [4.0, 0.0]"), r"heights must be the lower one first"),
            (("tile = 3.0", "tile = 0.0"), r"line 19, swatch\[1\]\.tile: tile must be above 0 m; got 0\.0"),
            (('"triplanar"', '"triplaner"'), r"line 24, layer\[1\]\.projection: must be 'box', 'cylindrical', 'planar'"),
            (('"triplanar"', '"triplanar"\nsoftness = 2.0'), r"line 25, layer\[1\]\.softness: .*from 0 to 1; got 2\.0"),
            (('"triplanar"', '"triplanar"\nsharpness = 0.0'), r"layer\[1\]\.sharpness: sharpness must be from 1 to 64"),
            (("[bake]", "[weights.x]\n[bake]"), r"weights\.x: unknown key; there are: texels, keep"),
            (("texels = 32\n[bake]", "texels = 32\nkeep = 99\n[bake]"), r"weights\.keep: .*from 1 to 16; got 99"),
            (("[arrays]", '[arrays]\nlayouts = ["speculer"]'), r'arrays\.layouts\[0\]: .*did you mean "specular"'),
            (('swatch = "salt"', 'swatch = "clay"'), r'two layers are called "clay"; give this one a label'),
            (('name = "salt"', 'name = "clay"'), r'line 17, swatch\[1\]\.name: two swatches are called "clay"'),
            (
                ("[bake]", "[view]\ncamera = [0, 1, 0]\ntarget = [0, 0, 0]\n[bake]"),
                r"view\.camera: a camera must not look straight",
            ),
            (("[bake]", "[view]\ncamera = [0, 1, 0]\ntarget = [0, 0, 9]\nsun = [0, 99]\n[bake]"), r"view\.sun: .*to 90"),
        ],
    )
    def test_a_mistake_names_its_place_and_what_came(self, project, change, words):
        with pytest.raises(QuiltFileError, match=words):
            quilt = built(project, QUILT.replace(*change))
            _ = quilt.terrain, quilt.swatches

    def test_a_layer_says_name_as_every_table_does(self, project):
        """Or label, as it did before; not both."""
        named = QUILT.replace('swatch = "salt"\n', 'swatch = "salt"\nname = "crust"\n')
        assert named != QUILT
        assert built(project, named).layers[1].name == "crust"
        with pytest.raises(QuiltFileError, match=r"line \d+, layer\[1\].name: is the same as label"):
            built(project, named.replace('name = "crust"', 'name = "crust"\nlabel = "salty"'))

    def test_two_layers_of_one_swatch_need_a_label(self, project):
        again = QUILT + '[[layer]]\nswatch = "clay"\nlabel = "clay again"\n'
        assert [layer.name for layer in built(project, again).layers] == ["clay", "salt", "clay again"]


class TestResults:
    def test_a_step_is_done_again_when_and_only_when_its_input_changed(self, project):
        path = project / "job.quilt.toml"

        def fresh():
            results = Results(jq.read_quilt(path))
            return tuple(results.run(step).fresh for step in ("pack", "weigh", "bake"))

        assert fresh() == (True, True, True)
        assert fresh() == (False, False, False)
        path.write_text(QUILT.replace('"triplanar"', '"planar"'))
        assert fresh() == (False, False, True)
        path.write_text(QUILT.replace("size = 5.0", "size = 6.0"))
        assert fresh() == (False, True, True)
        picture = project / "clay" / "clay_height.png"
        picture.write_bytes((project / "salt" / "salt_height.png").read_bytes())
        assert fresh() == (True, False, True)
        (project / "out" / "bake" / "normal.png").unlink()
        assert fresh() == (False, False, True)
        assert Results(jq.read_quilt(path)).run("weigh", force=True).fresh

    @pytest.mark.parametrize("file", ["arrays/specular.ktx2", "weights/weights_0.png"])
    def test_a_damaged_result_is_made_anew_with_a_warning(self, project, file):
        path = project / "job.quilt.toml"
        Results(jq.read_quilt(path)).run("bake")
        good = (project / "out" / file).read_bytes()
        (project / "out" / file).write_bytes(good[: len(good) // 2])
        with pytest.warns(jq.QuiltWarning, match="not as it was made; made anew"):
            Results(jq.read_quilt(path), texels=48).run("bake")
        assert (project / "out" / file).read_bytes() == good

    def test_baking_by_masks_needs_no_weight_map(self, project):
        built(project, QUILT.replace("[bake]", '[bake]\nweights = "masks"\nnormals = "world"\nfilter = "bilinear"'))
        results = Results(jq.read_quilt(project / "job.quilt.toml"))
        results.run("bake")
        assert not (project / "out" / "weights").exists()

    def test_pictures_are_drawn_by_name(self, project):
        results = Results(jq.read_quilt(project / "job.quilt.toml"), project / "elsewhere")
        assert [path.name for name in ("weights", "maps") for path in results.run(name).files] == [
            "weights.png",
            "weights_2.png",
            "maps.png",
        ]
        with pytest.raises(jq.QuiltError, match='did you mean "weights"'):
            results.run("weight")
        assert not (project / "out").exists()


WRONG = [
    ('swatch = "clay"\n', "swatch = 3\n"),
    ('swatch = "clay"\n', 'swatch = "clay"\nsoftnes = 0.2\n'),
    ('swatch = "clay"\n', 'swatch = "clay"\nsoftness = "soft"\n'),
    ('swatch = "clay"\n', 'swatch = "clay"\nprojection = "sideways"\n'),
    ('swatch = "clay"\n', 'swatch = "clay"\noffset = [1.0]\n'),
    ('swatch = "clay"\n', 'swatch = "clay"\ntuning = { tint = 3, gamma = 2.2 }\n'),
    ('swatch = "clay"\n', 'swatch = "clay"\nfar = { scale = 4.0 }\n'),
    ('kind = "noise"\n', 'kind = "niose"\n'),
    ('kind = "noise"\n', ""),
    ('kind = "noise"\n', 'kind = "noise"\noctave = 3\n'),
    ('kind = "noise"\n', 'kind = "noise"\ninvert = 1\n'),
    ("size = 5.0", 'size = "five"'),
    ("band = [1.0, 2.0]", "band = 1.0"),
    ("side = 16", 'side = "16"'),
    ("texels = 32", "texels = 32.5"),
    ("[surface]", "[surfaces]"),
    ("[surface]\n", "[surface]\nupside = true\n"),
]


class TestSchema:
    """What editors check by."""

    @pytest.fixture(scope="class")
    @staticmethod
    def validator():
        code, text, _ = jquilt("schema")
        assert code == 0
        schema = json.loads(text)
        jsonschema.Draft202012Validator.check_schema(schema)
        return jsonschema.Draft202012Validator(schema)

    def test_it_takes_what_is_right(self, validator):
        """The demo's file, one with formulas, and one whose layer says name."""
        demo = (Path(jq.__file__).parent / "demo" / "saltworks.quilt.toml").read_text()
        named = QUILT.replace('swatch = "salt"\n', 'swatch = "salt"\nname = "crust"\n').replace(
            "size = 5.0", 'size = "= 4 + time"'
        )
        for text in (demo, QUILT, named):
            assert not [error.message for error in validator.iter_errors(tomllib.loads(text))]

    @pytest.mark.parametrize(("old", "new"), WRONG, ids=[repr(new.strip().splitlines()[-1:]) for _, new in WRONG])
    def test_it_refuses_what_reading_refuses(self, validator, project, old, new):
        wrong = QUILT.replace(old, new, 1)
        assert wrong != QUILT
        assert list(validator.iter_errors(tomllib.loads(wrong)))
        with pytest.raises(QuiltFileError):
            built(project, wrong)

    @pytest.mark.parametrize(("old", "new"), WRONG, ids=[repr(new.strip().splitlines()[-1:]) for _, new in WRONG])
    def test_unknown_keys_are_found_before_anything_is_loaded(self, project, old, new):
        """In the words of reading, which loads NumPy first; and nothing that reading takes is refused."""
        path = project / "job.quilt.toml"
        path.write_text(QUILT.replace(old, new, 1))
        with pytest.raises(QuiltFileError) as refused:
            jq.read_quilt(path)
        said = str(refused.value).splitlines()
        is_all = all("unknown key" in line or "is missing" in line for line in said)
        assert unknown_keys(path) == (said if is_all else [])

    def test_the_schema_that_ships_is_that_of_the_tables(self, validator):
        """Write it again as one line of JSON, `quilt_schema()`, into quilt.schema.json."""
        assert shipped_schema() == validator.schema

    def test_a_wrong_key_loads_no_numbers(self, project):
        path = project / "job.quilt.toml"
        path.write_text(QUILT.replace("texels = 32", "texel = 32", 1))
        code = """
            import sys
            from jagged_quilt.cli.main import jquilt
            try:
                jquilt.main(["check", sys.argv[1]], standalone_mode=False)
            except Exception as error:
                print(error)
            print([name for name in ("numpy", "pydantic", "numba") if name in sys.modules])
        """
        said = subprocess.run(
            [sys.executable, "-c", textwrap.dedent(code), path], capture_output=True, text=True, check=True
        ).stdout
        assert 'unknown key; did you mean "texels"?' in said
        assert said.rstrip().endswith("[]")

    def test_keys_are_described(self, validator, tmp_path):
        tables = validator.schema["$defs"]
        assert "Metres" in tables["NoiseStep"]["properties"]["size"]["description"]
        assert "hollows first" in tables["FilmTable"]["properties"]["hollows"]["description"]
        assert tables["LayerTable"]["properties"]["projection"]["default"] == "planar"
        code, out, _ = jquilt("schema", "--out", tmp_path / "q.json")
        assert (code, "#:schema q.json" in out) == (0, True)


@pytest.mark.parametrize(
    ("word", "kind"),
    [
        ("steepness", "slope"),
        ("Altitude", "height"),
        ("ao", "occlusion"),
        ("cavity", "curvature"),
        ("vertex_color", "vertex colour"),
    ],
)
def test_what_a_kind_of_mask_is_called_elsewhere_is_answered_with_ours(project, word, kind):
    with pytest.raises(QuiltFileError, match=f'did you mean "{kind}"'):
        built(project, QUILT.replace('kind = "height"', f'kind = "{word}"'))
