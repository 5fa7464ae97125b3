"""What a newcomer adds: a role in one line, a mask in one class, a projection, a picture; and what each must keep."""

import importlib
import os
import shutil
import subprocess
import sys
from dataclasses import dataclass, replace
from pathlib import Path
from typing import ClassVar

import numpy as np
import pytest

import jagged_quilt as jq
from conftest import QUILT, jquilt, made_swatch, write_small_project
from jagged_quilt.arrays.texture_arrays import TextureArrays
from jagged_quilt.errors import ImageError
from jagged_quilt.foundation.canvas import Region
from jagged_quilt.foundation.checks import positive
from jagged_quilt.images import read_image, write_image
from jagged_quilt.maps.image_reader import Image, ImageReader
from jagged_quilt.masks.mask import MASK_KINDS, Mask

SOURCE = Path(__file__).parents[1] / "src" / "jagged_quilt"
ROLE = """\
    SHEEN = RoleFacts(
        channels=3, transfer=Transfer.SRGB, neutral=(0.0, 0.0, 0.0), array="sheen", words=("sheen", "shimmer")
    )
    GLOSS ="""


class TestRole:
    @pytest.fixture(scope="class")
    @staticmethod
    def other_package(tmp_path_factory):
        """The package with one more role, said in one place."""
        folder = tmp_path_factory.mktemp("package")
        shutil.copytree(SOURCE, folder / "jagged_quilt", ignore=shutil.ignore_patterns("__pycache__"))
        roles = folder / "jagged_quilt" / "maps" / "roles.py"
        text = roles.read_text()
        assert text.count("    GLOSS =") == 1
        roles.write_text(text.replace("    GLOSS =", ROLE))
        return folder

    def test_from_a_folder_of_maps_to_a_baked_map(self, other_package, tmp_path):
        """Without the compiler, which would take longer than all the rest."""
        folder = write_small_project(tmp_path)
        for name, red in (("clay", 255), ("salt", 0)):
            write_image(folder / name / f"{name}_shimmer.png", np.full((16, 16, 3), (red, 20, 0), np.uint8))
        (folder / "job.quilt.toml").write_text(
            QUILT.replace("texels = 32", "texels = 6")
            .replace('[[layer.mask]]\nkind = "noise"\nsize = 5.0\n', "")
            .replace("side = 16", 'side = 16\nlayouts = ["diffuse_height", "normal_roughness_occlusion", "specular", "sheen"]')
        )
        env = {**os.environ, "PYTHONPATH": str(other_package), "NUMBA_DISABLE_JIT": "1"}
        code = "import sys, jagged_quilt as jq; print(jq.run(jq.read_quilt(sys.argv[1]), 'bake')['bake'].files)"
        words = [sys.executable, "-W", "ignore", "-c", code, folder / "job.quilt.toml"]
        done = subprocess.run(words, capture_output=True, text=True, env=env)
        assert done.returncode == 0, done.stderr
        assert "sheen.png" in done.stdout
        assert (folder / "out" / "arrays" / "sheen.ktx2").is_file()
        glow = read_image(folder / "out" / "bake" / "sheen.png")
        assert glow.shape == (6, 6, 3)
        assert np.ptp(glow[..., 0]) > 100
        assert (np.abs(glow[..., 1].astype(int) - 20) <= 1).all()
        assert not glow[..., 2].any()


LIT = {
    "maps/roles.py": (
        "    GLOSS =",
        """    FLAME = RoleFacts(channels=1, neutral=(0.0,), array="flame", words=("flame",))
    GLOSS =""",
    ),
    "light/_rows.py": ("COAT_ROUGHNESS = LIT", "FLAME = LIT_COLUMN_OF[MapRole.FLAME]\nCOAT_ROUGHNESS = LIT"),
    "light/_kernels.py": ("glow = rows[lane(EMISSION + k, t)]", "glow = rows[lane(FLAME, t)] + rows[lane(EMISSION + k, t)]"),
}


def test_a_role_that_is_lit_is_said_in_three_files(tmp_path):
    """Its facts, its column, and what the light does with it; drawn without the compiler."""
    shutil.copytree(SOURCE, tmp_path / "jagged_quilt", ignore=shutil.ignore_patterns("__pycache__"))
    for name, (before, after) in LIT.items():
        path = tmp_path / "jagged_quilt" / name
        text = path.read_text()
        assert text.count(before) == 1
        path.write_text(text.replace(before, after))
    kernels = tmp_path / "jagged_quilt" / "light" / "_kernels.py"
    kernels.write_text(kernels.read_text().replace("    EMISSION,\n", "    EMISSION,\n    FLAME,\n", 1))
    code = (
        "import numpy as np, jagged_quilt as jq\n"
        "from jagged_quilt.maps.plain_swatch import plain_swatch\n"
        "def drawn(flame):\n"
        "    swatch = plain_swatch('a', diffuse=0.1, flame=flame)\n"
        "    scene = jq.Scene(jq.pack([swatch], side=1), lights=[jq.Sun(strength=0.1)])\n"
        "    scene.add(jq.Terrain(np.zeros((2, 2)), size=(4, 4)), [jq.Layer('a')])\n"
        "    camera = jq.Camera(position=(2, 2, 2.1), target=(2, 0, 2))\n"
        "    return scene.draw(camera, width=4, height=3).mean(axis=(0, 1))\n"
        "dark, bright = drawn(0.0), drawn(0.5)\n"
        "assert (bright > dark + 50).all(), (dark, bright)\n"
    )
    env = {**os.environ, "PYTHONPATH": str(tmp_path), "NUMBA_DISABLE_JIT": "1"}
    done = subprocess.run([sys.executable, "-W", "ignore", "-c", code], capture_output=True, text=True, env=env)
    assert done.returncode == 0, done.stderr


class PlainText(ImageReader):
    """Grey numbers 0 to 255, a line to a row."""

    suffixes = (".greys",)

    def size(self, path, limits):
        texels = self.read(path, limits).texels
        return texels.shape[:2]

    def read(self, path, limits):
        try:
            texels = np.loadtxt(path, ndmin=2).astype(np.uint8)
        except ValueError as error:
            raise ImageError(f"{path}: must hold numbers ({error})") from error
        limits.check(path, texels.shape[1], texels.shape[0], 1)
        return Image(texels[..., None], ("Y",))


def test_an_image_format_is_one_module(tmp_path):
    """From then on folders of swatches, checks and packing read it."""
    folder = write_small_project(tmp_path)
    rows = np.arange(256, dtype=int).reshape(16, 16)
    (folder / "clay" / "clay_occlusion.png").unlink(missing_ok=True)
    np.savetxt(folder / "clay" / "clay_occlusion.greys", rows, "%d")
    source = next(each for each in jq.read_quilt(folder / "job.quilt.toml").sources if each.name == "clay")
    assert "clay_occlusion.greys" in {each.name for each in source.files}
    assert np.array_equal(source.read().maps[jq.MapRole.OCCLUSION].texels[..., 0], rows)
    (folder / "clay" / "clay_occlusion.greys").write_text("1 2\nthree 4\n")
    with pytest.raises(ImageError, match="must hold numbers"):
        read_image(folder / "clay" / "clay_occlusion.greys")


def hills():
    v, u = np.mgrid[:33, :33] / 32
    return jq.Terrain(2 * np.sin(5 * u) * np.cos(4 * v), size=(16, 16))


class MaskRules:
    """What every kind of mask keeps; `mask` says which. Its quilt file form is `said`, where it has one of its own."""

    mask: Mask
    said: str = ""

    @pytest.fixture
    def ready(self):
        return self.mask.on(hills().canvas(32))

    def test_it_answers_from_0_to_1_at_every_point(self, ready):
        points = hills().points((24, 24))
        answers = ready.answer(points)
        assert (answers.shape, answers.dtype) == ((24 * 24,), np.float32)
        assert answers.min() >= 0
        assert answers.max() <= 1
        assert np.ptp(answers) > 0 or isinstance(self.mask, jq.Constant)

    def test_a_point_is_answered_the_same_alone(self, ready):
        points = hills().points((24, 24))
        assert np.allclose(ready.answer(points[100:140]), ready.answer(points)[100:140], atol=1e-6)

    def test_the_points_are_not_changed(self, ready):
        points = hills().points((8, 8))
        before = points.position.copy(), points.normal.copy()
        ready.answer(points)
        assert (points.position == before[0]).all()
        assert (points.normal == before[1]).all()

    def test_it_says_what_it_is_in_words_and_in_a_line(self, ready):
        assert self.mask.summary
        assert "\n" not in repr(self.mask)
        assert isinstance(ready.measured(hills().points((4, 4))), str)

    def test_it_can_be_combined_turned_over_and_cut(self, ready):
        points = hills().points((8, 8))
        plain = ready.answer(points)
        assert np.allclose((~ready).answer(points), 1 - plain, atol=1e-6)
        assert np.allclose((ready * 0.5).answer(points), plain * 0.5, atol=1e-6)

    def test_a_quilt_file_says_it(self, tmp_path):
        if not self.said:
            assert not type(self.mask).key or type(self.mask) in (jq.Distance, jq.DetailBand), "these need other layers"
            return
        folder = write_small_project(tmp_path)
        text = QUILT[: QUILT.index("[[layer.mask]]")]
        (folder / "job.quilt.toml").write_text(f"{text}[[layer.mask]]\n{self.said}\n")
        write_image(folder / "picture.png", np.arange(256, dtype=np.uint8).reshape(16, 16))
        found = jq.read_quilt(folder / "job.quilt.toml").layers[1].mask
        assert type(found) is type(self.mask)
        if not isinstance(found, jq.ImageMask):
            assert found == self.mask


class TestConstant(MaskRules):
    mask = jq.Constant(0.25)
    said = 'kind = "constant"\nvalue = 0.25'


class TestNoise(MaskRules):
    mask = jq.Noise(size=3.0, seed=4)
    said = 'kind = "noise"\nsize = 3.0\nseed = 4'


class TestCells(MaskRules):
    mask = jq.Noise(size=3.0, kind="cellular", dimensions=2, range=0.8)
    said = 'kind = "noise"\nsize = 3.0\nform = "cellular"\ndimensions = 2\nrange = 0.8'


class TestSlope(MaskRules):
    mask = jq.Slope(5.0, 30.0, fade=5.0)
    said = 'kind = "slope"\nband = [5.0, 30.0]\nfade = 5.0'


class TestHeight(MaskRules):
    mask = jq.HeightBand(-1.0, 1.0, fade=0.5)
    said = 'kind = "height"\nband = [-1.0, 1.0]\nfade = 0.5'


class TestFacing(MaskRules):
    mask = jq.Facing(bearing=90.0, spread=60.0)
    said = 'kind = "facing"\nbearing = 90.0\nspread = 60.0'


class TestImage(MaskRules):
    mask = jq.ImageMask(values=np.linspace(0, 1, 256, dtype=np.float32).reshape(16, 16), size=(16.0, 16.0))
    said = 'kind = "image"\nfile = "picture.png"\nsize = [16.0, 16.0]'


class TestCurvature(MaskRules):
    mask = jq.Curvature("hollows", 2.0)
    said = 'kind = "curvature"\nform = "hollows"\nscale = 2.0'


class TestHiddenSky(MaskRules):
    mask = jq.AmbientOcclusion(4.0)
    said = 'kind = "occlusion"\nreach = 4.0'


class TestWear(MaskRules):
    mask = jq.Wear(3.0)
    said = 'kind = "wear"\nscale = 3.0'


class TestDistance(MaskRules):
    mask = jq.Distance(jq.HeightBand(0.0, 4.0), 0.0, 2.0, texels=64)


class TestWarped(MaskRules):
    mask = jq.Slope(5.0, 20.0, fade=5.0).warped(by=0.5, size=2.0)


class TestCombined(MaskRules):
    mask = jq.Noise(size=2.0) * jq.Slope(0.0, 25.0, fade=5.0)


class TestDetailBand(MaskRules):
    _TOP = jq.Layer("b", mask=jq.DetailBand("height", 0.049, 0.051, fade=0.001, below=(jq.Layer("a", jq.Triplanar()),)))
    mask = jq.layers_seeing([_TOP], jq.pack([made_swatch("a", tile=9)], side=16, work=jq.Work(threads=1)))[0].mask


def test_every_kind_of_mask_has_its_rules_tested():
    tested = {type(each.mask) for each in MaskRules.__subclasses__()}
    assert set(MASK_KINDS.values()) - tested <= {jq.VertexColour}  # which asks for colours, and is tested with meshes


def test_a_mask_is_added_by_one_class(tmp_path):
    """A frozen dataclass that answers: then Python combines it and quilt files know it, its defaults and its errors."""

    @dataclass(frozen=True, slots=True)
    class Stripes(Mask):
        """1 and 0 by turns, from west to east."""

        width: float = 2.0
        key: ClassVar[str] = "stripes"

        def __post_init__(self) -> None:
            positive("stripes width", self.width, "m")

        def answer(self, points):
            return (np.floor(points.position[:, 0] / self.width) % 2).astype(np.float32)

    try:
        assert repr(Stripes(3.0) * jq.Slope(0, 9)) == "(Stripes(width=3) multiply Slope(low=0, high=9))"
        weights = jq.weigh(hills().canvas(16), [jq.Layer("a"), jq.Layer("b", mask=Stripes(2.0))])
        assert np.array_equal(weights.layer("b")[0] > 0.5, np.arange(16) // 2 % 2 == 1)
    finally:
        del MASK_KINDS["stripes"]


OWN_MASK = """
from dataclasses import dataclass
from typing import ClassVar
import numpy as np
from jagged_quilt.masks.mask import Mask


@dataclass(frozen=True)
class Whole(Mask):
    key: ClassVar[str] = "whole"

    def answer(self, points):
        return np.full(len(points), {answer}, np.float32)
"""


STRIPES = """
from dataclasses import dataclass
from typing import ClassVar
import numpy as np
from jagged_quilt.masks.mask import Mask


@dataclass(frozen=True)
class Stripes(Mask):
    width: float = 2.0
    key: ClassVar[str] = "stripes"

    def answer(self, points):
        return (np.floor(points.position[:, 0] / self.width) % 2).astype(np.float32)
"""


def test_a_mask_of_ones_own_module_is_said_in_a_quilt_file(tmp_path):
    """The command line loads the module; its keys, their defaults and the nearest one are known."""
    folder = write_small_project(tmp_path)
    file, module = folder / "job.quilt.toml", folder / "stripes.py"
    module.write_text(STRIPES)
    text = QUILT[: QUILT.index("[[layer.mask]]")] + '[[layer.mask]]\nkind = "stripes"\n'
    file.write_text(text)
    code, _, errors = jquilt("weigh", file, "--with", module)
    assert code == 0, errors
    assert jq.open_weights(folder / "out" / "weights").names == ("clay", "salt")
    file.write_text(text + "widht = 3.0\n")
    assert 'did you mean "width"' in jquilt("check", file, "--with", module)[2]
    assert "there is no such file" in jquilt("check", file, "--with", "none.py")[2]
    assert "there is no module nothing_like_it" in jquilt("check", file, "--with", "nothing_like_it")[2]


EXPORTER = """
from dataclasses import dataclass
from typing import ClassVar

from jagged_quilt.results.exporter import Exporter, Written, option


@dataclass(frozen=True, kw_only=True)
class Census(Exporter):
    \'\'\'How much of the ground each layer covers, a line each.\'\'\'

    key: ClassVar[str] = "census"
    digits: int = option(1, "Digits after the point.")
    order: str = option("file", "The order of the lines.", words=("file", "share"))

    def write(self, results, folder):
        covered = dict(zip(results.weights.names, results.weights.covered()["percent"], strict=True))
        names = sorted(covered, key=covered.get) if self.order == "share" else covered
        folder.mkdir(parents=True, exist_ok=True)
        path = folder / "census.txt"
        path.write_text("".join(f"{name} {covered[name]:.{self.digits}f}\\n" for name in names))
        return Written((path,), lost=("colours",))
"""


def test_an_exporter_is_one_module(tmp_path):
    """Its fields are its options, it is listed with the others, and it is a step: what lies there is not written again."""
    folder = write_small_project(tmp_path)
    file, module = folder / "job.quilt.toml", folder / "census.py"
    module.write_text(EXPORTER)
    said = jquilt("export", "--with", module, "--help")[1]
    assert "census     How much of the ground each layer covers" in said
    assert "--order [file|share]" in jquilt("export", "--with", module, "census", "--help")[1]
    code, said, errors = jquilt("export", "--with", module, "census", file, "--digits", "3")
    assert code == 0, errors
    assert "left out: colours" in said
    path = folder / "out" / "export" / "census.txt"
    assert len(path.read_text().split()[1].partition(".")[2]) == 3
    again = jquilt("export", "--with", module, "census", file, "--digits", "3")[1]
    assert "nothing changed" in again
    assert "left out: colours" in again
    module.write_text(EXPORTER.replace("{name} {covered", "{name}: {covered"))
    assert "nothing changed" not in jquilt("export", "--with", module, "census", file, "--digits", "3")[1]
    assert path.read_text().startswith("clay: ")
    assert "Invalid value for '--order'" in jquilt("export", "--with", module, "census", file, "--order", "size")[2]


PROJECTION = """
from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from jagged_quilt.blend import _rows as k
from jagged_quilt.blend.projection import ProjectionBase


@dataclass(frozen=True, kw_only=True)
class Slanted(ProjectionBase):
    \'\'\'From above, along a line that leans to the east.\'\'\'

    lean: float = 0.0
    key: ClassVar[str] = "slanted"

    @property
    def local_axes(self):
        c, s = np.cos(np.radians(self.lean)), np.sin(np.radians(self.lean))
        return np.array([[c, s, 0], [-s, c, 0], [0, 0, 1.0]]), np.zeros(3)
"""


def test_a_projection_along_axes_is_one_module(tmp_path):
    """Quilt files, the blend and the shader take it as it says itself: unleaning it is planar."""
    folder = write_small_project(tmp_path)
    file, module = folder / "job.quilt.toml", folder / "slanted.py"
    module.write_text(PROJECTION)
    baked = {}
    for name, words in (("planar", '"planar"'), ("level", '"slanted"'), ("leaning", '"slanted"\nlean = 40.0')):
        file.write_text(QUILT.replace('projection = "triplanar"', f"projection = {words}"))
        code, _, errors = jquilt("bake", file, "--with", module, "--out", folder / name)
        assert code == 0, errors
        baked[name] = read_image(folder / name / "bake" / "diffuse.png")
    assert np.array_equal(baked["planar"], baked["level"])
    assert not np.array_equal(baked["planar"], baked["leaning"])
    module.write_text(PROJECTION.replace("np.radians(self.lean)", "np.radians(0 * self.lean)"))
    assert jquilt("bake", file, "--with", module, "--out", folder / "leaning")[0] == 0
    assert np.array_equal(baked["level"], read_image(folder / "leaning" / "bake" / "diffuse.png"))
    file.write_text(QUILT.replace('"triplanar"', '"slantet"'))
    assert "'slanted'" in jquilt("check", file, "--with", module)[2]


def test_a_mask_whose_answer_changes_is_weighed_anew(project, monkeypatch):
    """Of a kind that a user's own module defines; one that did not change is not."""
    monkeypatch.syspath_prepend(project)

    def share(answer):
        (project / "own_masks.py").write_text(OWN_MASK.format(answer=answer))
        sys.modules.pop("own_masks", None)
        importlib.invalidate_caches()
        MASK_KINDS["whole"] = importlib.import_module("own_masks").Whole
        quilt = jq.read_quilt(project / "job.quilt.toml")
        layers = (quilt.layers[0], replace(quilt.layers[1], mask=MASK_KINDS["whole"]()))
        made = jq.run(replace(quilt, layers=layers), "weigh")["weigh"]
        return made.fresh, round(jq.open_weights(made.folder).shares()["salt"], 2)

    try:
        assert share(0.5) == (True, 0.5)
        assert share(0.5) == (False, 0.5)
        assert share(0.25) == (True, 0.25)
    finally:
        del MASK_KINDS["whole"]
        sys.modules.pop("own_masks", None)


def test_a_mask_is_neither_true_nor_false():
    for used in (lambda: jq.Slope(0, 9) and jq.Noise(size=2), lambda: not jq.Slope(0, 9)):
        with pytest.raises(jq.QuiltError, match=r"combine masks with & \(minimum\), \| \(maximum\) and ~ \(invert\)"):
            used()


class CanvasRules:
    """What every canvas keeps."""

    @pytest.fixture
    def canvas(self):
        raise NotImplementedError

    def test_its_points_fill_its_texels_once(self, canvas):
        rows, columns = canvas.texels
        seen = np.zeros(rows * columns, int)
        for piece in canvas.block(Region.whole(canvas.texels)).pieces:
            seen += np.bincount(
                np.arange(rows * columns)[piece.where.run if piece.where.each is None else piece.where.each],
                minlength=len(seen),
            )
            assert len(piece.points) == len(piece.where.of(seen))
            assert 0 <= piece.part < len(canvas.parts)
            assert np.allclose(np.linalg.norm(piece.points.normal, axis=1), 1, atol=1e-4)
        assert set(np.unique(seen)) <= {0, 1}
        assert seen.sum() > 0.3 * len(seen)

    def test_in_parts_it_gives_the_same(self, canvas):
        arrays = jq.pack([made_swatch(name, seed) for seed, name in enumerate("ab")], side=16, work=jq.Work(threads=1))
        layers = [jq.Layer("a"), jq.Layer("b", jq.Triplanar(4), mask=jq.Slope(10, 90, fade=10))]
        once, again = (jq.bake(canvas, layers, arrays, work=jq.Work(threads=threads)) for threads in (1, 3))
        for role in once:
            assert np.array_equal(once[role], again[role])
        weights = jq.weigh(canvas, layers)
        assert np.allclose(weights.weights.astype(float).sum(axis=-1), weights.unit)


class TestGrid(CanvasRules):
    @pytest.fixture
    def canvas(self):
        return hills().canvas(24)


class TestPage(CanvasRules):
    @pytest.fixture
    def canvas(self):
        return hills().canvas(32).page(rows=(8, 24), columns=(4, 20))


class TestLayout(CanvasRules):
    @pytest.fixture
    def canvas(self):
        return jq.UvCanvas(jar(), 32)


class TestVertices(CanvasRules):
    @pytest.fixture
    def canvas(self):
        return jq.VertexCanvas(jar())


def jar():
    made = jq.shapes.jar(1.0, around=16, rings=8)
    return jq.Mesh.of(made.position, made.triangles, uv=made.uv / made.uv.max(axis=0))


class StoreRules:
    """What every store of slices keeps."""

    def arrays(self, folder) -> TextureArrays:
        raise NotImplementedError

    def test_it_gives_what_was_packed(self, tmp_path):
        arrays, plain = self.arrays(tmp_path), jq.pack(self.swatches(), side=16, work=jq.Work(threads=1))
        for layout in arrays.layouts:
            for level in range(5):
                for name in "ab":
                    got, packed = arrays.texels(layout.name, name, level), plain.texels(layout.name, name, level)
                    assert (got.shape, got.dtype) == (packed.shape, packed.dtype)
                    assert np.array_equal(got, packed)

    def test_pages_of_it_blend_the_same(self, tmp_path):
        points = hills().points((6, 6))
        one, other = (jq.Blend(each, [jq.Layer("b")]) for each in (self.arrays(tmp_path), jq.pack(self.swatches(), side=16)))
        weights = jq.PointWeights.all_of("b", len(points))
        assert one.at(points, weights).values.tobytes() == other.at(points, weights).values.tobytes()

    @staticmethod
    def swatches():
        return [made_swatch(name, seed) for seed, name in enumerate("ab")]


class TestInMemory(StoreRules):
    def arrays(self, folder):
        return jq.pack(self.swatches(), side=16, work=jq.Work(threads=2))


class TestInFiles(StoreRules):
    def arrays(self, folder):
        jq.pack(self.swatches(), side=16).save(folder / "arrays")
        return jq.open_arrays(folder / "arrays")
