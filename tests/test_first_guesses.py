"""What somebody who knows NumPy tries first: it is right, or the message says what to write."""

import numpy as np
import pytest

import jagged_quilt as jq
from conftest import made_swatch
from jagged_quilt.errors import RangeError, ShapeError


@pytest.fixture(scope="module")
def it(tmp_path_factory):
    """What guesses are made with."""
    swatches = [made_swatch("clay", 1), made_swatch("salt", 2)]
    layers = [jq.Layer("clay"), jq.Layer("salt", mask=jq.Slope(0, 20))]
    terrain = jq.Terrain(np.add.outer(np.arange(9.0), np.arange(9.0)) / 4, size=(8, 8))
    arrays, canvas = jq.pack(swatches, side=16), terrain.canvas(8)
    mesh = jq.shapes.plane((1.0, 1.0))
    scene = jq.Scene(arrays).add(terrain, layers)
    made = {"swatches": swatches, "layers": layers, "terrain": terrain, "arrays": arrays, "canvas": canvas, "mesh": mesh}
    weights = jq.weigh(canvas, layers)
    return made | {"scene": scene, "weights": weights, "folder": tmp_path_factory.mktemp("guesses"), "np": np, "jq": jq}


RIGHT = [
    "jq.bake(canvas, layers, arrays)['normal'].shape == (8, 8, 3)",
    "'diffuse' in jq.bake(canvas, layers, arrays).keys()",
    "jq.bake(canvas, layers, arrays, weights=weights).save(folder / 'bake')",
    "jq.Layer('clay', mask=0.5).mask == jq.Constant(0.5)",
    "jq.Layer('clay', jq.Triplanar(4)).projection.sharpness == 4",
    "jq.Film(mask=0.25).mask == jq.Constant(0.25)",
    "(1 - jq.Slope(0, 20)) * 0.5 + jq.Noise(size=2)",
    "swatches[0].maps['diffuse'].role is jq.MapRole.DIFFUSE",
    "swatches[0].maps['albedo'].role is jq.MapRole.DIFFUSE",
    "'diffuse' in swatches[0].maps and 'emission' not in swatches[0].maps",
    "swatches[0].with_map('roughness', np.full((4, 4), 0.25)).maps['roughness'].values.max() == 0.25",
    "swatches[0].with_map('occlusion', np.full((4, 4), 255, np.uint8)).maps['occlusion'].values.min() == 1",
    "jq.TextureMap(role='metalness', texels=np.zeros((4, 4), np.uint8)).role is jq.MapRole.METALLIC",
    "jq.TextureMap.of_values('normal', np.tile([0.0, 0.0, 1.0], (2, 2, 1))).values[0, 0, 2] == 1",
    "jq.MapRule(role='gloss', channel='r').role is jq.MapRole.GLOSS",
    "jq.MapRule(role='occlusion', value=0.5).value == (0.5,)",
    "jq.MapRule(role='normal', green='down', transfer='linear').green == 'down'",
    "arrays.values('clay', 'diffuse').shape == (16, 16, 3)",
    "jq.WeightMap.from_channels(np.ones((4, 4, 2), np.uint8), ['clay', 'salt']).weights.sum(axis=2).max() == 255",
    "jq.WeightMap.from_channels(np.random.default_rng(1).random((4, 4, 3)), 'abc', keep=2).layers.shape == (4, 4, 2)",
    "jq.WeightMap.from_channels(np.full((2, 2, 2), 0.5), ['clay', 'salt'], sums='refuse').unit == 255",
    "jq.weigh(canvas, [layers[0], jq.Layer('salt', mask=jq.MaskOf(lambda at: at[:, 0] / 8))]).names == ('clay', 'salt')",
    "jq.MaskOf(lambda points: points.normal[:, 1] ** 2).answer(terrain.points_at([[4, 4]])).shape == (1,)",
    "jq.MaskOf(lambda at: 0.5).answer(terrain.points_at([[4, 4], [1, 1]])).tolist() == [0.5, 0.5]",
    "jq.adopt.splat(np.full((4, 4, 2), 127, np.uint8), ['clay', 'salt']).weights.names == ('clay', 'salt')",
    "jq.adopt.splat([np.full((4, 4, 2), 0.5)], ['clay', 'salt']).weights.layers.shape == (4, 4, 2)",
    "scene.draw(width=32, height=20).shape == (20, 32, 3)",
    "scene.draw(width=32, height=20).save(folder / 'view.png').is_file()",
    "scene.draw(width=16, height=10)._repr_png_()[:4] == b'\\x89PNG'",
    "scene.draw(jq.Camera((4, 9, 20), (4, 0, 4)), width=16, height=10).max() > 50",
    "scene.draw(without=['normal'], width=16, height=10).dtype == np.uint8",
    "jq.Scene(arrays).add(mesh, layers).draw(width=16, height=10).max() > 50",
    "jq.compare(scene.draw(width=16, height=10), scene.draw(width=16, height=10)).save(folder / 'compared.png').is_file()",
    "mesh.placed(at=(4, 1, 4), turn=30, scale=2, on=terrain).bounds[0][1] == 3",
    "mesh.placed(np.eye(4)).position.shape == mesh.position.shape",
    "jq.UvCanvas(mesh, 8).texels == (8, 8)",
    "jq.bake(jq.UvCanvas(mesh, 8), layers, arrays)['diffuse'].shape == (8, 8, 3)",
    "jq.bake(canvas, layers, arrays, work=jq.Work(threads=2)).keys()",
    "jq.Terrain([[0, 1], [2, 3]], size=(4, 4)).height_range == (0, 3)",
    "jq.Sun(300, 35).height == 35",
]
REFUSED = [
    ("jq.bake(terrain, layers, arrays)", "must be a canvas: terrain.canvas(1024); got a Terrain"),
    ("jq.bake(mesh, layers, arrays)", "must be a canvas: jq.UvCanvas(mesh, 1024); got a Mesh"),
    ("jq.bake(8, layers, arrays)", "must be a canvas: terrain.canvas(1024), or jq.UvCanvas(mesh, 1024); got an int"),
    ("jq.bake(canvas, layers, swatches)", "arrays must be packed: jq.pack(swatches)"),
    ("jq.bake(canvas, layers[0], arrays)", "layers must be a list"),
    ("jq.bake(canvas, ['clay'], arrays)", 'must be a jq.Layer: jq.Layer("clay"); got a str'),
    ("jq.bake(canvas, [], arrays)", "there is no layer to bake"),
    ("jq.bake(canvas, layers, arrays, normals='object')", "there are: tangent, world"),
    ("jq.bake(canvas, layers, arrays)['Normal']", 'did you mean "normal"'),
    ("jq.weigh(terrain, layers)", "must be a canvas: terrain.canvas(1024)"),
    ("jq.weigh(canvas, layers[0])", "layers must be a list of layers"),
    ("jq.Layer(swatches[0])", 'must be the name of a swatch: jq.Layer("clay"); got a Swatch'),
    ("jq.Layer('clay', 'triplanar')", "must be a projection: jq.Triplanar()"),
    ("jq.Layer('clay', jq.Slope(0, 3))", "must be a projection"),
    ("jq.Layer('clay', mask=lambda at: 1)", "jq.MaskOf(function) makes one of it"),
    ("jq.Layer('clay', mask='slope')", "must be a mask, or a number from 0 to 1; got a str"),
    ("jq.Film(mask=2)", "from 0 to 1"),
    ("jq.Slope(0, 20) and jq.Noise(size=2)", "combine masks with &"),
    ("not jq.Slope(0, 20)", "~ (invert)"),
    ("jq.Slope(20, 0)", "swap the two"),
    ("jq.Noise(size='3')", "must be a number; got '3'"),
    ("jq.pack(swatches[0])", "packing takes a list of swatches"),
    ("jq.pack('swatches')", "jq.read_swatches('swatches')"),
    ("jq.pack(swatches, side=100)", "nearest: 64 or 128"),
    ("swatches[0].maps['shininess of it']", "no role is called"),
    ("swatches[0].with_map('rougness', np.zeros((2, 2)))", 'did you mean "roughness"'),
    ("jq.WeightMap.from_channels(np.ones((4, 4), np.uint8), ['clay'])", "channels must be (rows, columns, 1)"),
    ("jq.WeightMap.from_channels(np.ones((4, 4, 2), int), ['clay', 'salt'])", "uint8, uint16 or floats; got int64"),
    ("jq.WeightMap.from_channels(np.zeros((4, 4, 2)), ['clay', 'salt'])", "16 texels hold nothing, the first at row 0"),
    ("jq.WeightMap.from_channels(np.ones((4, 4, 2)), ['clay', 'salt'], sums='refuse')", 'sums="normalise" divides'),
    ("jq.WeightMap.from_channels(-np.ones((4, 4, 2)), ['clay', 'salt'])", "not below 0"),
    ("jq.adopt.splat(np.zeros((4, 4, 2), int), ['clay', 'salt'])", "array 0: a splat sheet must be"),
    ("jq.adopt.splat(np.full((4, 4, 1), 0.5), ['clay', 'salt'])", "2 layers need 2 channels; array 0 hold 1"),
    ("jq.MaskOf('slope')", "needs one: jq.MaskOf(lambda"),
    ("jq.MaskOf(lambda at: at).answer(terrain.points_at([[4, 4]]))", "a number for each of 1 positions; got (1, 3)"),
    ("jq.MaskOf(lambda at: at[:, 0] * np.nan).answer(terrain.points_at([[4, 4]]))", "1 values that are NaN"),
    ("jq.MaskOf(lambda at: at[:, 0]).answer(terrain.points_at([[4, 4]]))", "from 0 to 1 (np.clip); got 4 to 4"),
    ("jq.MaskOf(lambda at: at[:, 7]).answer(terrain.points_at([[4, 4]]))", "its function failed on 1 positions"),
    ("weights.at(terrain)", "must be points: terrain.points_at([[x, z]"),
    ("jq.Scene(arrays).draw()", "there is nothing in the scene"),
    ("scene.draw(terrain)", "camera must be a jq.Camera("),
    ("jq.compare(scene, scene)", "must be a picture, (height, width, 3) uint8; got Scene"),
    ("jq.Terrain([[0, 1], [2, 3]], size=4)", "metres east and south, as (256, 256); got 4"),
    ("jq.shapes.plane(2)", "size must be 2 lengths in metres"),
    ("mesh.placed(at=(0, 0, 0), scale=0)", "scale must be above 0"),
    ("terrain.canvas('32')", "must be a whole number"),
]


@pytest.mark.parametrize("guess", RIGHT)
def test_a_guess_that_is_right(it, guess):
    found = eval(guess, dict(it))
    assert found if isinstance(found, (bool, np.bool_)) else found is not None


@pytest.mark.parametrize(("guess", "message"), REFUSED, ids=[guess for guess, _ in REFUSED])
def test_a_guess_that_is_answered(it, guess, message):
    with pytest.raises(jq.QuiltError) as refused:
        eval(guess, dict(it))
    assert message in str(refused.value)


@pytest.mark.parametrize(
    ("window", "name", "near"), [(jq, "Terain", "Terrain"), (jq, "bak", "bake"), (jq.export, "write_gltff", "write_gltf")]
)
def test_a_name_that_is_not_there_names_the_nearest(window, name, near):
    with pytest.raises(AttributeError, match=f'has no "{name}"; did you mean "{near}"'):
        getattr(window, name)
    assert not hasattr(window, "nothing_of_the_kind")


class TestMaskOf:
    POINTS = jq.Points.of([[0, 0, 0], [4, 0, 4]], [[0, 1, 0]] * 2)

    def test_its_stamp_follows_its_code_what_it_closes_over_and_what_it_is_made_from(self):
        def by(metres):
            return lambda at: at[:, 0] / metres

        masks = [jq.MaskOf(lambda at: at[:, 0] / 4), jq.MaskOf(lambda at: at[:, 2] / 4), jq.MaskOf(by(4)), jq.MaskOf(by(5))]
        stamps = [each.stamp for each in masks] + [jq.MaskOf(masks[0].function, made_from="wind.npy").stamp]
        assert len(set(stamps)) == 5
        assert jq.MaskOf(by(4)).stamp == stamps[2]
        assert jq.MaskOf(eval("lambda at: 1.0")).stamp == jq.MaskOf(eval("lambda at:   1.0")).stamp
        assert (jq.MaskOf(np.cos).stamp, jq.MaskOf(np.cos, made_from="cos").stamp) == (None, "cos")

    def test_a_global_that_it_reads_counts(self):
        """What cannot be hashed is not trusted, unless it is said what it is."""
        stamps = [jq.MaskOf(eval("lambda at: at[:, 0] / metres", {"metres": metres})).stamp for metres in (4, 5, 4)]
        assert (stamps[0] == stamps[2]) > (stamps[0] == stamps[1])
        unknown = eval("lambda at: answer(at)", {"answer": lambda at: 1.0})
        assert jq.MaskOf(unknown).stamp is None
        assert jq.MaskOf(unknown, made_from="one").stamp != jq.MaskOf(unknown, made_from="two").stamp

    def test_it_combines_as_any_other(self):
        both = ~jq.MaskOf(lambda at: at[:, 0] / 4, name="east") * 0.5
        assert both.answer(self.POINTS) == pytest.approx([0.5, 0])
        assert 'function "east"' in both.summary

    def test_what_it_refuses_names_it(self):
        with pytest.raises(RangeError, match='mask "east"'):
            jq.MaskOf(lambda at: at[:, 0], name="east").answer(self.POINTS)
        with pytest.raises(ShapeError, match='mask "east"'):
            jq.MaskOf(lambda at: at[:1, 0] + at[:, 1:2], name="east").answer(self.POINTS)
