"""Values travel to other processes, say what they are in a line, and show themselves in a notebook."""

import multiprocessing
import subprocess
import sys
from concurrent.futures import ProcessPoolExecutor
from dataclasses import replace
from itertools import pairwise

import numpy as np
import pytest

import jagged_quilt as jq
from conftest import made_swatch, write_small_project
from jagged_quilt.arrays.pages import TexelPages
from jagged_quilt.blend.blend import Texels
from jagged_quilt.foundation.canvas import Region
from jagged_quilt.maps.roles import MapRole as R
from jagged_quilt.surfaces.mesh_fields import MeshFields

MASK = jq.Noise(size=1.5) * jq.Slope(0, 40, fade=5).warped(by=0.2, size=1.0)
LAYERS = [jq.Layer("a"), jq.Layer("b", jq.Triplanar(4, warp=jq.Warp(0.1, 2.0)), mask=MASK)]


def ground():
    v, u = np.mgrid[:17, :17] / 16
    return jq.Terrain(np.sin(5 * u) * np.cos(4 * v), size=(8, 8))


def laid_out_jar():
    """A jar whose uv fill a square, so that it can be baked into."""
    jar = jq.shapes.jar(1.0, around=12, rings=8)
    return jq.Mesh.of(jar.position, jar.triangles, uv=jar.uv / jar.uv.max(axis=0))


def places(count=50):
    return ground().points((16, 16))[:count]


ANSWERS = {
    "terrain": lambda value: value.points((8, 8)).normal,
    "mesh": lambda value: value.points().tangent,
    "swatch": lambda value: np.concatenate([each.texels.ravel() for each in value.maps.values()]),
    "mask": lambda value: value.answer(places()),
    "layer": lambda value: value.mask.answer(places()),
    "weigher": lambda value: value.at(places()).weights,
    "weight map": lambda value: value.at(places()).weights,
    "arrays": lambda value: value.values("b", jq.MapRole.NORMAL),
    "plan": lambda value: np.frombuffer(value.layer_rows.tobytes() + value.mapping_rows.tobytes(), np.uint8),
    "blend": lambda value: value.at(places(), jq.Weigher(LAYERS).at(places())).values,
    "canvas": lambda value: jq.weigh(value, LAYERS).weights,
    "layout of a mesh": lambda value: value.block(Region.whole(value.texels)).pieces[0].points.position,
    "daub": lambda value: np.array(value.path),
    "points": lambda value: value.position,
    "baked": lambda value: value["normal"],
    "camera": lambda value: value.rays(3, 4),
    "quilt": lambda value: value.terrain.heights,
}


def answer_of(kind, value):
    """What another process says of a value."""
    return ANSWERS[kind](value)


@pytest.fixture(scope="module")
def values(tmp_path_factory):
    """One of each, the arrays by their files."""
    folder = tmp_path_factory.mktemp("values")
    jq.pack([made_swatch("a", 1), made_swatch("b", 2)], side=16, work=jq.Work(threads=1)).save(folder / "arrays")
    arrays, terrain, mesh = jq.open_arrays(folder / "arrays"), ground(), laid_out_jar()
    weights = jq.weigh(terrain.canvas(16), LAYERS, work=jq.Work(threads=1))
    blend = jq.Blend(arrays, LAYERS)
    return {
        "terrain": terrain,
        "mesh": mesh,
        "swatch": made_swatch("a", 1),
        "mask": MASK,
        "layer": LAYERS[1],
        "weigher": jq.Weigher(LAYERS, terrain),
        "weight map": weights,
        "arrays": arrays,
        "plan": blend.plan,
        "blend": blend,
        "canvas": terrain.canvas(12),
        "layout of a mesh": jq.UvCanvas(mesh, 32),
        "daub": jq.Daub(path=((1.0, 1.0), (2.0, 2.0)), radius=1.0, layers=("a",)),
        "points": places(),
        "baked": jq.bake(terrain.canvas(8), LAYERS, arrays, weights=weights),
        "camera": jq.Camera(position=(0, 2, 8), target=(4, 0, 4)),
        "quilt": jq.read_quilt(write_small_project(folder) / "job.quilt.toml"),
    }


class TestTravel:
    @pytest.fixture(scope="class")
    @staticmethod
    def elsewhere():
        with ProcessPoolExecutor(1, mp_context=multiprocessing.get_context("spawn")) as pool:
            yield pool

    @pytest.mark.parametrize("kind", ANSWERS)
    def test_another_process_answers_the_same(self, values, elsewhere, kind):
        there = elsewhere.submit(answer_of, kind, values[kind]).result(timeout=120)
        assert np.array_equal(there, answer_of(kind, values[kind]))
        assert np.size(there)

    def test_arrays_travel_by_their_files(self, values):
        import pickle

        assert len(pickle.dumps(values["arrays"])) < 20_000


class TestLines:
    @pytest.mark.parametrize("kind", ANSWERS)
    def test_each_is_reported_in_one_line(self, values, kind):
        line = repr(values[kind])
        assert "\n" not in line
        assert 3 < len(line) < 300
        assert " object at 0x" not in line

    def test_it_says_what_differs_from_the_defaults(self):
        assert repr(jq.Noise(size=2.0)) == "Noise(size=2)"
        assert repr(jq.Triplanar(8.0, mirror="u")) == "Triplanar(mirror='u', sharpness=8)"
        assert repr(jq.ImageMask(values=np.ones((4, 6), np.float32))) == "ImageMask(values=<4 x 6 float32>)"
        assert repr(jq.Noise(size=2.0) * jq.Slope(0, 20)) == "(Noise(size=2) multiply Slope(low=0, high=20))"
        assert repr(made_swatch("a")).startswith("Swatch(name='a', tile=2, relief=0.1, maps={diffuse, normal,")


PICTURES = {"terrain": 1, "mesh": 1, "swatch": 6, "weight map": 3, "arrays": 2, "baked": 6}


class TestNotebook:
    @pytest.mark.parametrize("kind", PICTURES)
    def test_a_value_shows_itself(self, values, kind):
        html = values[kind]._repr_html_()
        assert html.count("data:image/png;base64,iVBOR") == PICTURES[kind]
        assert type(values[kind]).__name__ in html

    def test_masks_layers_explanations_and_gatherings_show_themselves(self, values, tmp_path):
        mask = jq.HeightBand(2, 6, fade=1.0) * jq.Noise(size=4.0)
        assert (
            mask._repr_html_().count("data:image/png") == jq.Layer("clay", mask=mask)._repr_html_().count("data:image/png") == 2
        )
        layers = [jq.Layer("clay"), jq.Layer("salt", mask=mask)]
        told = jq.explain(jq.Weigher(layers), values["terrain"].points_at([[1.0, 2.0]]))._repr_html_()
        assert "height 2 to 6 m" in told
        jq.images.write_image(tmp_path / "clay" / "clay_diffuse.png", np.zeros((32, 32, 3), np.uint8))
        assert "data:image/png" in jq.gather(tmp_path)._repr_html_()

    def test_what_cannot_be_drawn_says_so(self):
        """In a sentence, and not in a traceback."""
        mask = jq.VertexColour("r")
        assert "colour" in mask._repr_html_()
        assert "data:image" not in mask._repr_html_()

    def test_a_notebook_runs(self, values, tmp_path):
        import nbformat
        from nbclient import NotebookClient

        values["weight map"].save(tmp_path / "weights")
        cells = [
            "import jagged_quilt as jq",
            "weights = jq.open_weights('weights')\nweights",
        ]
        book = nbformat.v4.new_notebook(cells=[nbformat.v4.new_code_cell(each) for each in cells])
        NotebookClient(book, timeout=120, resources={"metadata": {"path": str(tmp_path)}}).execute()
        shown = book.cells[1].outputs[0].data
        assert "WeightMap 16 x 16 texels" in shown["text/plain"]
        assert shown["text/html"].count("<img") == 3

    def test_nothing_that_draws_is_loaded_before(self):
        code = "import sys, jagged_quilt as j; j.Mask; print(*(n in sys.modules for n in ('matplotlib', 'jagged_quilt.show')))"
        reported = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True).stdout
        assert reported.split() == ["False", "False"]


class TestShared:
    def test_a_mesh_of_ten_parts_holds_its_texels_once(self, values, monkeypatch):
        made = []
        empty = TexelPages.empty.__func__
        monkeypatch.setattr(
            TexelPages, "empty", classmethod(lambda cls, *reported: made.append(empty(cls, *reported)) or made[-1])
        )
        mesh = values["mesh"]
        cuts = np.linspace(0, len(mesh.triangles), 11).astype(int)
        parts = [replace(mesh.parts[0], name=f"part {n}", first=a, last=b) for n, (a, b) in enumerate(pairwise(cuts))]
        tenfold = replace(mesh, parts=tuple(parts))
        by_part = {part.name: [jq.Layer("ab"[n % 2], jq.Uv())] for n, part in enumerate(parts)}
        jq.bake(jq.UvCanvas(tenfold, 32), by_part, values["arrays"], work=jq.Work(threads=1))
        assert len(made) == 1
        camera = jq.Camera.before(*mesh.bounds, 1.5)
        jq.Scene(values["arrays"]).add(tenfold, by_part).draw(camera, width=12, height=8, work=jq.Work(threads=1))
        assert len(made) == 2
        pages = values["arrays"].open(["a", "b"])
        assert len(made) == 3
        for layers in by_part.values():
            jq.Blend(pages, layers)
        jq.bake(jq.UvCanvas(tenfold, 32), by_part, pages, work=jq.Work(threads=1))
        assert len(made) == 3

    def test_fields_are_worked_out_once_and_kept_outside_of_the_surface(self, values):
        fields = MeshFields(values["mesh"])
        first, again = (jq.Curvature("ridges", 0.5).on(fields) for _ in range(2))
        assert first.answer(values["mesh"].points()).tobytes() == again.answer(values["mesh"].points()).tobytes()
        assert not hasattr(values["mesh"], "__dict__")

    def test_points_whose_arrays_do_not_fit_are_refused(self, values):
        points = values["points"]
        with pytest.raises(jq.QuiltError, match="normal"):
            replace(points, normal=points.normal[:-1])

    def test_image_limits_belong_to_what_reads(self, tmp_path):
        """A second quilt file of tighter limits changes nothing for the first."""
        first, second = (write_small_project(tmp_path / name) / "job.quilt.toml" for name in "ab")
        second.write_text("[images]\nlargest_side = 8\n" + second.read_text().replace('title = "Two fields"\n', ""))
        wide = jq.read_quilt(first)
        with pytest.raises(jq.QuiltError, match="16 x 16"):
            _ = jq.read_quilt(second).swatches
        assert wide.swatches[0].maps
        assert jq.read_quilt(first).swatches[0].maps


class TestFirstGuesses:
    """What a person tries first is right, or the message says what to write."""

    def test_texels_go_by_names_too(self):
        texels = Texels.of({R.DIFFUSE: np.full((2, 3), 0.5, np.float32)}, 2)
        assert "diffuse" in texels
        assert R.NORMAL in texels
        assert "diffusion" not in texels
        assert "coat" not in texels
        assert texels.keys() == [role.key for role in jq.SURFACE_ROLES]
        assert np.array_equal(texels["diffuse"], texels[R.DIFFUSE])
        assert [name for name, _ in texels.items()] == texels.keys()
        with pytest.raises(jq.QuiltError, match='did you mean "diffuse"'):
            texels["difuse"]

    def test_a_folder_may_be_text(self, tmp_path):
        write_small_project(tmp_path)
        assert jq.SwatchSource(name="clay", folder=str(tmp_path / "clay"), tile=1.0).read().name == "clay"

    @pytest.mark.parametrize(
        ("call", "words"),
        [
            (lambda a: jq.bake(ground().canvas(8), [], a), r"there is no layer to bake; give at least one: \[jq.Layer"),
            (lambda a: jq.bake(ground().canvas(8), ["a"], a), "each of the layers must be a jq.Layer: .*; got a str"),
            (
                lambda a: jq.audit.audit_swatch(made_swatch("a")),
                "where a swatch comes from, jq.SwatchSource.*; got a Swatch",
            ),
        ],
    )
    def test_what_is_of_the_wrong_kind_is_refused_in_words(self, call, words):
        with pytest.raises(jq.QuiltError, match=words):
            call(jq.pack([made_swatch("a")], side=16, work=jq.Work(threads=1)))
