"""What a quilt file says of weights: every mask, medleys, adoption, daubs, formulas of time, sweeps."""

import contextlib
import re

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

import jagged_quilt as jq
from conftest import QUILT
from jagged_quilt.errors import NameNotFoundError, QuiltFileError, RangeError
from jagged_quilt.images import write_image
from jagged_quilt.masks.mask import Shared
from jagged_quilt.quiltfile.formulas import value_of
from jagged_quilt.quiltfile.read import full_key, parts_of
from jagged_quilt.quiltfile.sweep import Sweep
from jagged_quilt.results import requests
from jagged_quilt.results.exports import EXPORTERS, export
from jagged_quilt.results.results import Results
from jagged_quilt.show.weight_pictures import draw_weight_facts

HEAD = QUILT[: QUILT.index("[[layer.mask]]")]
TOP = '[[layer]]\nswatch = "clay"\nlabel = "top"\n'


def quilt_with(project, *steps, more="", head=HEAD):
    """The quilt file of the tests with other masks on its upper layer."""
    (project / "job.quilt.toml").write_text(head + "".join(f"[[layer.mask]]\n{step}\n" for step in steps) + more)
    return jq.read_quilt(project / "job.quilt.toml")


class TestMaskTables:
    @pytest.mark.parametrize(
        ("step", "mask"),
        [
            ('kind = "height"\nband = [1.0, 3.0]\nfade = 0.5', jq.HeightBand(1, 3, 0.5)),
            ('kind = "slope"\nband = [5.0, 30.0]', jq.Slope(5, 30)),
            ('kind = "facing"\nbearing = 90.0\nspread = 30.0\nfade = 5.0\nlevel = 2.0', jq.Facing(90, 30, 5, 2)),
            ('kind = "curvature"\nform = "hollows"\nscale = 4.0\nhigh = 0.3', jq.Curvature("hollows", 4.0, 0.05, 0.3)),
            ('kind = "occlusion"\nreach = 6.0\nfull = 0.4', jq.AmbientOcclusion(6.0, 0.4)),
            (
                'kind = "distance"\nof = [{ kind = "height", band = [0.0, 2.0] }]\nband = [-1.0, 2.0]\nfade = 1.0\ntexels = 64',
                jq.Distance(jq.HeightBand(0, 2), -1, 2, 1.0, 64),
            ),
            (
                'kind = "noise"\nsize = 3.0\nform = "ridged"\noctaves = 2\nperiod = 4\ndimensions = 2',
                jq.Noise(size=3, kind=jq.NoiseKind.RIDGED, octaves=2, period=4, dimensions=2),
            ),
            ('kind = "constant"\nvalue = 0.4', jq.Constant(0.4)),
            (
                'kind = "height"\nband = [1.0, 3.0]\nthreshold = 0.5\nrange = 0.1\nlevels = { black = 0.1, gamma = 2.0 }\n'
                "warp = { by = 0.5, size = 2.0 }\ninvert = true\nstrength = 0.7",
                ~jq.HeightBand(1, 3).warped(by=0.5, size=2.0).levels(0.1, 1.0, 2.0).cut(0.5, 0.1) * 0.7,
            ),
            ('kind = "vertex colour"\nchannel = "g"', jq.VertexColour("g")),
        ],
    )
    def test_every_kind_and_key_reaches_its_mask(self, project, step, mask):
        assert quilt_with(project, step).layers[1].mask == mask

    def test_images_lie_beside_the_quilt_file(self, project):
        write_image(project / "paint.png", np.arange(12, dtype=np.uint8).reshape(3, 4, 1) * 20)
        step = 'kind = "image"\nfile = "paint.png"\nsize = [16.0, 16.0]\nrotation = 10.0\nwrap = "mirror"\ncorner = [1.0, 2.0]'
        mask = quilt_with(project, step).layers[1].mask
        assert (mask.size, mask.corner, mask.rotation, mask.wrap) == ((16, 16), (1, 2), 10, "mirror")
        results = Results(jq.read_quilt(project / "job.quilt.toml"))
        assert results.run("weigh").fresh
        write_image(project / "paint.png", np.zeros((3, 4, 1), np.uint8))
        assert Results(jq.read_quilt(project / "job.quilt.toml")).run("weigh").fresh  # its file is an input too
        with pytest.raises(QuiltFileError, match=r"layer\[1\]\.mask\[0\]: .*gone\.png: there is no such image file"):
            quilt_with(project, 'kind = "image"\nfile = "gone.png"')

    @pytest.mark.parametrize(
        ("combine", "wanted"),
        [
            ("multiply", lambda a, b: a * b),
            ("add", lambda a, b: min(a + b, 1)),
            ("subtract", lambda a, b: max(a - b, 0)),
            ("maximum", np.maximum),
            ("minimum", np.minimum),
            ("difference", lambda a, b: abs(a - b)),
            ("mix", lambda a, b: 0.75 * a + 0.25 * b),
        ],
    )
    def test_every_way_to_combine(self, project, combine, wanted):
        second = f'kind = "constant"\nvalue = 0.6\ncombine = "{combine}"' + "\namount = 0.25" * (combine == "mix")
        quilt = quilt_with(project, 'kind = "constant"\nvalue = 0.3', second)
        assert quilt.layers[1].mask.answer(quilt.terrain.points((2, 2))) == pytest.approx(wanted(0.3, 0.6), abs=1e-6)

    def test_another_layers_mask_and_the_distance_to_it(self, project):
        steps = ['kind = "layer"\nlayer = "top"\ninvert = true', 'kind = "distance"\nlayer = "top"\nband = [0.0, 2.0]']
        more = TOP + '[[layer.mask]]\nkind = "height"\nband = [0.0, 1.0]\n'
        mask = quilt_with(project, *steps, more=more).layers[1].mask
        assert mask == ~Shared(jq.HeightBand(0, 1), "top") * jq.Distance(jq.HeightBand(0, 1), 0, 2)
        with pytest.raises(QuiltFileError, match=r"layer\[1\]\.mask\[0\]: no layer is called \"tap\"; did you mean \"top\""):
            quilt_with(project, 'kind = "layer"\nlayer = "tap"', more=more)

    def test_masks_that_ask_each_other_in_a_circle_are_refused(self, project):
        more = TOP + '[[layer.mask]]\nkind = "distance"\nlayer = "salt"\nband = [0.0, 1.0]\n'
        with pytest.raises(QuiltFileError, match="masks ask each other in a circle: salt -> top -> salt; break it somewhere"):
            quilt_with(project, 'kind = "layer"\nlayer = "top"', more=more)
        with pytest.raises(QuiltFileError, match="circle: salt -> salt"):
            quilt_with(project, 'kind = "layer"\nlayer = "salt"')

    def test_faults_name_their_place(self, project):
        of = 'kind = "distance"\nband = [0.0, 1.0]\nof = '
        for step, words in (
            ('kind = "distance"\nband = [0.0, 1.0]', r"layer\[1\]\.mask\[0\]: say the distance to what"),
            (of + '[{ kind = "slop", band = [0.0, 1.0] }]', r"of\[0\]: unknown kind 'slop'"),
            (of + '[{ kind = "slope", bnd = [0.0, 1.0] }]', r'of\[0\]\.bnd: unknown key; .*"band"'),
            ('kind = "slope"\nband = [0.0, 9.0]\namount = 0.3', r"mask\[0\]\.amount: is for combine = \"mix\""),
            ('kind = "slope"\nband = [0.0, 9.0]\nrange = 0.3', r"mask\[0\]\.range: has no effect without a threshold"),
            ('kind = "noise"\nsize = 2.0\nform = "lumpy"', "'smooth', 'billowed', 'ridged' or 'cellular'"),
            ('kind = "noise"\nsize = 2.0\ncombine = "maximum"', 'stands on "everywhere"'),
            ('kind = "height"\nband = [0.0, 1.0]\nwarp = { by = 1.0 }', "warp.size: this key is missing"),
        ):
            with pytest.raises(QuiltFileError, match=words):
                quilt_with(project, step)

    def test_share_and_sixteen_bits(self, project):
        head = HEAD.replace("[weights]", '[weights]\nstacking = "share"\nbits = 16')
        more = TOP + '[[layer.mask]]\nkind = "constant"\nvalue = 0.2\n'
        results = Results(quilt_with(project, 'kind = "constant"\nvalue = 0.3', more=more, head=head))
        assert results.weights.shares() == pytest.approx({"clay": 0.5, "salt": 0.3, "top": 0.2}, abs=1e-4)
        assert results.weights.unit == 65535


class TestMedleyTables:
    def medley(self, project, text):
        head = HEAD.replace(
            '[[layer]]\nswatch = "clay"',
            f'[[medley]]\nname = "both"\nswatches = ["clay", "salt"]\n{text}\n[[layer]]\nswatch = "both"',
            1,
        )
        return quilt_with(project, 'kind = "constant"\nvalue = 0.5', head=head)

    @pytest.mark.parametrize(
        ("text", "by"),
        [
            (
                'by = "noise"\nnoise = { size = 3.0, form = "cellular", octaves = 2 }',
                jq.Noise(size=3, kind=jq.NoiseKind.CELLULAR, octaves=2),
            ),
            ('by = "height"\nheights = [0.0, 4.0]\nwobble = 1.0\nsize = 5.0', jq.Heights((0, 4), 1.0, 5.0)),
            ('by = "height"', jq.Heights((0, 4))),  # those of the surface
            ('by = "mask"\n[[medley.mask]]\nkind = "slope"\nband = [0.0, 20.0]', jq.Slope(0, 20)),
        ],
    )
    def test_each_way_to_take_turns(self, project, text, by):
        quilt = self.medley(project, text)
        assert quilt.layers[0].medley == jq.Medley(("clay", "salt"), by)
        results = Results(quilt)
        assert results.weights.names == ("both: clay", "both: salt", "salt")
        assert results.run("bake").fresh

    def test_faults_name_their_place(self, project):
        for text, words in (
            ('by = "noise"', r'medley\[0\]\.by: by = "noise" needs noise = \{ size'),
            ('by = "height"\nheights = [1.0, 2.0, 3.0]', r"medley\[0\]: 3 height stops for 2 swatches"),
            ('by = "noise"\nnoise = { size = 3.0 }\nheights = [0.0, 1.0]', "nothing for the other ways"),
        ):
            with pytest.raises(QuiltFileError, match=words):
                self.medley(project, text)
        with pytest.raises(QuiltFileError, match=r'layer\[0\]\.swatch: no swatch or medley is called "boht"'):
            quilt_with(project, head=HEAD.replace('[[layer]]\nswatch = "clay"', '[[layer]]\nswatch = "boht"', 1))
        with pytest.raises(
            QuiltFileError, match=r'medley\[0\]\.swatches\[1\]: no swatch is called "sald"; did you mean "salt"'
        ):
            quilt_with(
                project,
                head=HEAD.replace(
                    "[[layer]]",
                    '[[medley]]\nname = "x"\nby = "noise"\nnoise = { size = 1.0 }\nswatches = ["clay", "sald"]\n[[layer]]',
                    1,
                ),
            )


ADOPT = '[adopt]\nform = "{form}"\nfiles = {files}\nlayers = {layers}\n{more}\n[adopt.to]\n"old" = "clay"\n'


class TestAdoptTables:
    def adopted(self, project, form, files, layers='["old", "salt"]', more=""):
        adopt = ADOPT.format(form=form, files=files, layers=layers, more=more)
        return Results(quilt_with(project, head=HEAD.replace("[[swatch]]", adopt + "[[swatch]]", 1)))

    def test_every_form_gives_the_same_weights(self, project):
        """The left half old, the right half salt."""
        old = np.zeros((8, 8, 1), np.uint8)
        old[:, :4] = 255
        write_image(project / "splat.png", np.concatenate([old, 255 - old, 0 * old], axis=2))
        write_image(project / "index.png", 3 * (old == 0).astype(np.uint8))
        write_image(project / "old.png", old)
        write_image(project / "salt_mask.png", 255 - old)
        write_image(
            project / "key.png", np.where(old == 255, np.uint8([200, 10, 10]), np.uint8([10, 10, 200])).astype(np.uint8)
        )
        for form, files, more in (
            ("splat", '["splat.png"]', ""),
            ("index", '["index.png"]', "numbers = [0, 3]"),
            ("masks", '["old.png", "salt_mask.png"]', ""),
            ("masks", '["old.png"]', "implied_last = true"),
            ("colours", '["key.png"]', 'colours = ["#c80a0a", "#0a0ac8"]'),
        ):
            results = self.adopted(project, form, files, more=more)
            assert results.adopted.names == ("clay", "salt")
            assert np.array_equal(results.adopted.layer("clay"), old[..., 0] / 255), form
            assert results.weights.shares() == pytest.approx({"clay": 0.5, "salt": 0.5}, abs=0.03)
            assert not results.run("adopt").fresh

    def test_an_edited_sheet_is_adopted_and_weighed_anew(self, project):
        write_image(project / "splat.png", np.full((4, 4, 2), (255, 0), np.uint8)[..., [0, 1, 1]])
        assert self.adopted(project, "splat", '["splat.png"]').weights.shares()["salt"] == 0
        write_image(project / "splat.png", np.full((4, 4, 2), (0, 255), np.uint8)[..., [0, 1, 0]])
        assert self.adopted(project, "splat", '["splat.png"]').weights.shares()["salt"] == 1

    def test_faults_name_their_place_and_nothing_is_written(self, project):
        write_image(project / "a.png", np.full((4, 4, 3), 200, np.uint8))
        write_image(project / "b.png", np.zeros((4, 5, 3), np.uint8))
        for form, files, layers, more, words in (
            ("splat", '["a.png", "b.png"]', '["old", "salt", "x", "y"]', "", "sheets of one set must have one size"),
            ("splat", '["a.png"]', '["old", "salt", "x"]', 'sums = "refuse"', r"files: .*weights sum to more than 1 at 16"),
            ("splat", '["a.png"]', '["old", "salt", "x"]', "", r'adopt\.to: no home of the old layer "x"'),
            ("index", '["a.png", "b.png"]', '["old", "salt"]', "", "needs 1 files; got 2"),
            ("index", '["a.png"]', '["old", "salt"]', "", "index 200 at row 0, column 0 is none of the 2 layers"),
            ("index", '["a.png"]', '["old", "salt"]', "implied_last = true", 'implied_last has no effect in form = "index"'),
            ("colours", '["a.png"]', '["old", "salt"]', 'colours = ["#000000"]', "2 layers need as many colours; got 1"),
        ):
            results = self.adopted(project, form, files, layers, more)
            with pytest.raises(QuiltFileError, match=words):
                results.run("weigh")
            assert not list(results.folder.rglob("*.png"))
        with pytest.raises(RangeError, match=r"nothing to adopt; say what with an \[adopt\] table"):
            Results(quilt_with(project)).run("adopt")

    def test_the_demos_own_sheets_adopted_give_the_same_bake(self, own_saltworks):
        """Exported, taken over by a quilt file with no masks at all, and baked: within 2/255."""
        film, _, rest = own_saltworks.read_text().partition("[[film]]")
        own_saltworks.write_text(film + rest[rest.index("# What stands on the ground") :])
        first = Results(jq.read_quilt(own_saltworks))
        sheets = [file.name for file in export(first, EXPORTERS["weights"]()).files if file.suffix == ".png"]
        before = first.run("bake").folder
        text = own_saltworks.read_text()
        names = first.weights.names
        swatches = [swatch for layer in first.quilt.layers for swatch in layer.swatches]
        head = text[: text.index("[[medley]]")].replace('daubs = "daubs.jsonl"', "")
        files = ", ".join(f'"out/export/{sheet}"' for sheet in sheets)
        adopt = f'[adopt]\nform = "splat"\nfiles = [{files}]\nlayers = {list(names)!r}\n'.replace("'", '"')
        layers = "".join(_layer_text(first.quilt, name, swatch) for name, swatch in zip(names, swatches, strict=True))
        again = own_saltworks.with_name("again.quilt.toml")
        again.write_text(head + adopt + layers)
        second = Results(jq.read_quilt(again), own_saltworks.parent / "again")
        after = second.run("bake").folder
        assert second.inherited.sums.changed == 0
        for name in ("diffuse", "normal", "roughness", "specular", "occlusion"):
            one, two = (jq.images.read_image(folder / f"{name}.png").astype(int) for folder in (before, after))
            assert np.abs(one - two).max() <= 2


def _layer_text(quilt, name, swatch):
    layer = next(layer for layer in quilt.layers if name == layer.name or name.startswith(f"{layer.name}: "))
    triplanar = isinstance(layer.projection, jq.Triplanar)
    return (
        f'[[layer]]\nswatch = "{swatch}"\nlabel = "{name}"\nsoftness = {layer.softness}\n'
        f'projection = "{"triplanar" if triplanar else "planar"}"\n'
        + _table("shuffle", layer.projection.shuffle, "size", "border")
        + _table("tuning", layer.tuning, "lift", "saturation")
        + _table("far", layer.far, "start", "over", "scale")
        + "".join(f"meets = {{ {other} = {softness} }}\n" for other, softness in layer.meets)
    )


def _table(key, value, *names):
    reported = ", ".join(f"{name} = {getattr(value, name)}" for name in names) if value else ""
    return f"{key} = {{ {reported} }}\n" if value else ""


class TestDaubsOfAQuilt:
    def test_they_are_laid_on_and_a_new_one_is_noticed(self, project):
        head = HEAD.replace("[weights]", '[weights]\ndaubs = "d.jsonl"')
        step = 'kind = "constant"\nvalue = 0.0'
        assert quilt_with(project, step, head=head).daubs == ()  # none painted yet
        daub = jq.Daub(path=((8.0, 8.0),), radius=4.0, layers=("salt",), falloff=0.2)
        assert Results(quilt_with(project, step, head=head)).weights.shares()["salt"] == 0
        jq.daubs.append_daub(project / "d.jsonl", daub)
        results = Results(quilt_with(project, step, head=head))
        assert results.run("weigh").fresh
        assert results.weights.shares()["salt"] == pytest.approx(np.pi * 3.6**2 / 256, rel=0.05)
        jq.daubs.append_daub(project / "d.jsonl", jq.Daub(path=((99.0, 8.0),), radius=4.0, layers=("salt",)))
        with pytest.raises(QuiltFileError, match=r"weights\.daubs: .*d\.jsonl daub 2: the path leaves the surface at x 99"):
            Results(quilt_with(project, step, head=head)).run("weigh")

    def test_without_a_map_they_are_answered_at_every_texel(self, project):
        head = HEAD.replace("[weights]", '[weights]\ndaubs = "d.jsonl"').replace("[bake]", '[bake]\nweights = "masks"')
        jq.daubs.append_daub(project / "d.jsonl", jq.Daub(path=((8.0, 8.0),), radius=4.0, layers=("salt",)))
        results = Results(quilt_with(project, 'kind = "constant"\nvalue = 0.0', head=head))
        with_daub = jq.images.read_image(results.run("bake").folder / "diffuse.png")
        (project / "d.jsonl").unlink()
        results = Results(quilt_with(project, 'kind = "constant"\nvalue = 0.0', head=head))
        changed = (with_daub != jq.images.read_image(results.run("bake").folder / "diffuse.png")).any(axis=2)
        rows, columns = np.nonzero(changed)
        assert 3 < np.hypot(rows / 2 - 7.75, columns / 2 - 7.75).max() < 4


class TestFormulas:
    @pytest.mark.parametrize(
        ("text", "value"),
        [
            ("= 0.3 + 0.2 * time", 0.7),
            ("=-time**2 / 4", -1.0),
            ("= min(1, max(0, time - 1.5))", 0.5),
            ("= 7 % 4", 3),
            ("= cos(pi) + sqrt(4) + abs(-1) + sin(0)", 2.0),
            ("= floor(2.7) + round(0.6)", 3),
        ],
    )
    def test_they_are_sums(self, text, value):
        assert value_of(text, 2.0) == pytest.approx(value)

    @given(st.text(max_size=30))
    def test_anything_else_is_refused_and_runs_nothing(self, text):
        with contextlib.suppress(RangeError):
            assert np.isfinite(value_of(text, 1.0))

    @pytest.mark.parametrize(
        "text",
        [
            "= 1 / 0",
            "= tme",
            "= __import__('os')",
            "= (1).real",
            "= 9**9**9",
            "= [1]",
            "= 'a'",
            "= sqrt(-1)",
            "= (-1)**0.5",
            "= 1e999",
            "= True",
            "=",
            "=" + "*".join(["9**64"] * 9),
            "= round(1, -100000000) / 0",
            "= 2**64**64**64",
            "=" + "(" * 400 + "1" + ")" * 400,
            "=" + "1+" * 1000 + "1",
        ],
    )
    def test_what_is_no_sum_is_refused(self, text):
        with pytest.raises(RangeError, match=r"the formula .* gives no"):
            value_of(text, 1.0)

    def test_time_drives_any_number_of_a_mask(self, project):
        step = 'kind = "height"\nband = ["= time", "= 2 + time"]\nfade = "= 0.1 * (1 + time)"'
        assert quilt_with(project, step).layers[1].mask == jq.HeightBand(0, 2, 0.1)
        later = jq.read_quilt(project / "job.quilt.toml", time=1.5)
        assert later.layers[1].mask == jq.HeightBand(1.5, 3.5, 0.25)
        head = HEAD.replace("[weights]", "[weights]\ntime = 1.5")
        assert quilt_with(project, step, head=head).layers[1].mask == later.layers[1].mask
        with pytest.raises(QuiltFileError, match=r'line \d+, layer\[1\]\.mask\[0\]\.fade: the formula "tim" gives no number'):
            quilt_with(project, 'kind = "height"\nband = [0.0, 1.0]\nfade = "= tim"')


class TestSweeps:
    def test_values_are_spread_from_end_to_end(self):
        assert Sweep.of("layer[2].mask[1].threshold=0.2:0.8:4") == Sweep("layer[2].mask[1].threshold", (0.2, 0.4, 0.6, 0.8))
        assert Sweep.of("a.b=1:5:5").values == (1, 2, 3, 4, 5)
        assert Sweep.of("a.b=0.05,0.2,1").values == (0.05, 0.2, 1.0)
        assert all(isinstance(value, int) for value in Sweep.of("a.b=1:5:5").values)
        for text in ("threshold", "a=1:2", "a=1:2:x", "a=1:2:1", "a=1:2:99"):
            with pytest.raises(RangeError):
                Sweep.of(text)

    def test_a_key_is_found_by_number_by_name_or_where_there_is_only_one(self, project):
        quilt = quilt_with(project, 'kind = "height"\nband = [0.0, 1.0]', 'kind = "noise"\nsize = 2.0')
        place = ("layer", 1, "mask", 1, "threshold")
        assert parts_of("layer[salt].mask[1].band[0]") == ["layer", "salt", "mask", 1, "band", 0]
        for key in ("layer[1].mask[1].threshold", "layer[salt].mask[1].threshold", "layer.mask[1].threshold"):
            assert full_key(quilt.table.model_dump(mode="json"), key) == place
            changed = jq.read_quilt(quilt.path, changes={key: 0.7})
            assert changed.layers[1].mask.above.threshold == 0.7
        assert jq.read_quilt(quilt.path, changes={"layer[salt].mask[0].band[1]": 3}).layers[1].mask.below.high == 3
        assert jq.read_quilt(quilt.path, changes={"weights.time": 2.0}).table.weights.time == 2.0
        for key, words in (
            ("layer[9].softness", "leads nowhere"),
            ("layer[slat].softness", "leads nowhere"),
            ("layer.softness", r"can mean layer\[0\]\.softness, layer\[1\]\.softness"),
            ("lair", "leads nowhere"),
        ):
            with pytest.raises(NameNotFoundError, match=words):
                jq.read_quilt(quilt.path, changes={key: 0.5})
        with pytest.raises(QuiltFileError, match="threshold"):
            jq.read_quilt(quilt.path, changes={"layer[1].mask[1].threshold": 7.0})

    def test_the_sheet_shows_the_layer_that_changes(self, project):
        results = Results(quilt_with(project, 'kind = "noise"\nsize = 4.0'))
        made = requests.show_sweep(results, Sweep.of("layer.mask[0].threshold=0.1:0.9:5"))
        assert [file.name for file in made.files] == ["sweep.png"]
        assert jq.images.read_image(made.files[0]).shape == (800, 1280, 3)
        assert Sweep.of("layer[salt].softness=0:1:2").layer_of(results.quilt) == "salt"

    def test_time_is_swept_over_all_layers(self, project):
        results = Results(quilt_with(project, 'kind = "constant"\nvalue = "= time / 8"'))
        picture = jq.images.read_image(requests.show_sweep(results, Sweep.of("weights.time=0:8:2")).files[0])
        left, right = picture[60:640, 30:600], picture[60:640, 660:1230]
        assert (left[300, 300] != right[300, 300]).any()
        assert (left == left[:1, :1]).all()  # clay alone, and then salt alone

    def test_what_does_not_act_on_weights_is_not_swept(self, project):
        results = Results(quilt_with(project, 'kind = "noise"\nsize = 4.0'))
        for key in ("surface.size[0]", "weights.keep", "swatch[clay].tile"):
            with pytest.raises(RangeError, match=f"a sweep turns numbers of layers.*got {re.escape(key)}"):
                requests.show_sweep(results, Sweep.of(f"{key}=1:8:3"))

    def test_a_sweep_is_of_the_time_that_is_asked(self, project):
        step = 'kind = "noise"\nsize = 4.0\nstrength = "= time / 4"'
        early = requests.show_sweep(Results(quilt_with(project, step)), Sweep.of("layer.mask[0].threshold=0.2:0.6:2"))
        before = jq.images.read_image(early.files[0])
        late = requests.show_sweep(
            Results(jq.read_quilt(project / "job.quilt.toml", time=4.0)), Sweep.of("layer.mask[0].threshold=0.2:0.6:2")
        )
        assert (jq.images.read_image(late.files[0]) != before).any()


class TestExplaining:
    def test_one_place_is_reported_step_by_step(self, project):
        head = HEAD.replace("[weights]", '[weights]\ndaubs = "d.jsonl"')
        jq.daubs.append_daub(
            project / "d.jsonl", jq.Daub(path=((8.0, 8.0),), radius=4.0, layers=("top",), strength=0.5, falloff=0.1)
        )
        steps = [
            'kind = "height"\nband = [0.0, 9.0]',
            'kind = "noise"\nsize = 4.0',
            'kind = "constant"\nvalue = 0.9\ncombine = "minimum"',
        ]
        results = Results(quilt_with(project, *steps, more=TOP + '[[layer.mask]]\nkind = "constant"\nvalue = 0.2\n', head=head))
        points = results.quilt.terrain.points_at([[8.0, 8.0]])
        reported = jq.explain(results.weigher, points)
        assert [layer.name for layer in reported.layers] == ["clay", "salt", "top"]
        assert sum(layer.weight for layer in reported.layers) == pytest.approx(1, abs=1e-5)
        assert [(step.combine, step.reading.summary.split(",")[0]) for step in reported.layers[1].steps] == [
            ("", "height 0 to 9 m"),
            ("multiply", "smooth noise"),
            ("minimum", "0.9 everywhere"),
        ]
        assert reported.layers[1].steps[-1].result == pytest.approx(float(results.quilt.layers[1].mask.answer(points)[0]))
        assert reported.layers[2].stacked == pytest.approx(0.2)
        assert reported.layers[2].weight == pytest.approx(0.2 + 0.8 * 0.5)
        assert reported.daubs == ((1, "paint top", 0.5),)
        assert reported.position == pytest.approx((8, float(points.position[0, 1]), 8))


def test_three_hundred_layers_work(project):
    steps = (
        '[[layer]]\nswatch = "clay"\nlabel = "l{n}"\n[[layer.mask]]\nkind = "noise"\nsize = 3.0\nseed = {n}\nthreshold = 0.9\n'
    )
    results = Results(quilt_with(project, more="".join(steps.format(n=n) for n in range(298))))
    assert len(results.weights.names) == 300
    assert (results.weights.weights.sum(axis=2, dtype=int) == 255).all()
    assert draw_weight_facts(results.weights, results.quilt.terrain).pixels().shape == (800, 1280, 3)


def test_with_no_layer_at_all_there_is_nothing_to_weigh(project):
    bare = quilt_with(project, head=HEAD[: HEAD.index("[[layer]]")])
    assert Results(bare).run("pack").fresh
    with pytest.raises(RangeError, match=r"nothing to weigh; say a \[surface\] and its"):
        Results(bare).run("weigh")
