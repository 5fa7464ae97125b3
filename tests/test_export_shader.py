"""The blend as shader source: what a driver makes of it is what float64 says."""

import json
import re
import shutil
import subprocess
from dataclasses import fields, replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import jagged_quilt as jq
from conftest import jquilt, made_swatch
from jagged_quilt.codecs.pixel_formats import PixelFormat
from jagged_quilt.export.light_shader import light_shader, write_light
from jagged_quilt.export.shader import blend_shader
from jagged_quilt.export.splat_sheets import whole_weight
from jagged_quilt.images import read_image
from jagged_quilt.light.light import Lighting, LitSurface
from jagged_quilt.masks.mask import Shared
from jagged_quilt.results.export_shader import masks_in_shader
from jagged_quilt.results.results import Results
from reference_blend import Decoded, blend_point
from shader_run import Device
from test_blend import ALL_ROLES, ROLES, deepened, random_film, random_knobs, random_points, random_projection, random_weights

_device = Device()
INVERTED = [
    jq.layout_of("colours", ["diffuse.b", "diffuse.g", "diffuse.r", "1 - height"]),
    jq.layout_of("texture", ["roughness", "1 - normal.y", "normal.x", "occlusion"]),
    "specular",
    "fine",
]
needs_driver = pytest.mark.skipif(bool(_device.why_not), reason=_device.why_not)


def random_blend(rng, filter, knobs):
    """Arrays, layers and films, whatever a shader can do of all there is."""
    count = 3
    swatches = [
        made_swatch(
            f"s{n}", int(rng.integers(99)), 16, rng.uniform(0.5, 9), rng.uniform(0.01, 0.3), ALL_ROLES if n == 1 else ROLES
        )
        for n in range(count)
    ]
    swatches[0] = replace(swatches[0], aspect=0.6 if knobs else 1.0)
    kinds, layers = [random_projection(rng) for _ in range(count)], []
    for n, kind in enumerate(kinds):
        kind = replace(kind, filter=None if kind.filter == "anisotropic" else kind.filter)
        turned = random_knobs(rng, n) if knobs else {}
        if isinstance(kind, jq.Spherical | jq.Cylindrical | jq.Polar):
            turned["per_map"] = {}
        elif knobs and kind.wraps == ("repeat", "repeat") and rng.random() < 0.6:
            turn = ("none", "quarter", "any")[rng.integers(3) if n else 0]  # the first has no square tile
            kind = replace(
                kind,
                shuffle=jq.Shuffle(
                    size=rng.uniform(0.3, 3), border=rng.uniform(0.05, 1), turn=turn, seed=int(rng.integers(99))
                ),
            )
        layers.append(jq.Layer(f"s{n}", kind, softness=float(rng.choice([0.02, 0.4, 1.0])), **turned))
    films = [random_film(rng) for _ in range(2 if knobs else 0)]
    return jq.pack(swatches, side=16, work=jq.Work(threads=1)), layers, films


def wanted(arrays, layers, films, points, weights, amounts, filter):
    """By float64, a dict of role to (N, C)."""
    decoded, out = Decoded(arrays), []
    known = [each.name for each in fields(points) if each.name not in ("colour", "uv_tangent", "rest")]
    for p in range(len(points)):
        point = {name: getattr(points, name)[p].astype(float) for name in known}
        laid = [(film, float(amounts[p, n])) for n, film in enumerate(films)]
        own = weights.layers[p], weights.weights[p].astype(float)
        out.append(blend_point(decoded, arrays, layers, point, *own, filter, True, laid))
    return {role: np.array([each[role] for each in out]) for role in out[0]}


def worst(found, truth, srgb=(jq.MapRole.DIFFUSE, jq.MapRole.SPECULAR, jq.MapRole.EMISSION)):
    """How far each point is off at most, in steps of 255, as it would be stored."""
    off = []
    for role, values in truth.items():
        if role.key in found:
            one, two = found[role.key].astype(float), values.reshape(found[role.key].shape)
            if role in srgb:
                one, two = (np.where(v <= 0.0031308, v * 12.92, 1.055 * np.abs(v) ** (1 / 2.4) - 0.055) for v in (one, two))
            scale = 127.5 if role.value.direction else 255
            off.append(scale * np.abs(np.clip(one, -1, 1) - np.clip(two, -1, 1)).max(axis=1))
    return np.max(off, axis=0)


@needs_driver
class TestAgreement:
    @settings(max_examples=5, deadline=None)
    @given(
        seed=st.integers(0, 10**6),
        filter=st.sampled_from(["nearest", "bilinear", "trilinear"]),
        dialect=st.sampled_from(["glsl", "essl"]),
        knobs=st.booleans(),
    )
    def test_random_blends_are_within_a_tenth_of_a_step_of_255(self, seed, filter, dialect, knobs):
        rng = np.random.default_rng(seed)
        arrays, layers, films = random_blend(rng, filter, knobs)
        points = random_points(rng, 40)
        weights = random_weights(rng, 40, [layer.name for layer in layers], 3)
        amounts = np.stack([film.mask.answer(points) for film in films], axis=1) if films else None
        shader = blend_shader(arrays, layers, dialect=dialect, filtering="exact", filter=filter, films=films)
        found = _device.blended(shader, arrays, points, weights, films, dialect)
        off = worst(found, wanted(arrays, layers, films, points, weights, amounts, filter))
        assert (off > 0.1).sum() <= 1  # the nearest texel and a box change at a line

    @pytest.mark.parametrize("layouts", [None, INVERTED], ids=["as they are packed", "inverted"])
    def test_maps_of_sixteen_bits_keep_them(self, layouts):
        """Heights within 2 of 65535 of the kernel's, and more steps than 8 bits have."""
        rng = np.random.default_rng(8)
        arrays = jq.pack([deepened(made_swatch("s", 1, 16), rng)], side=16, layouts=layouts)
        assert arrays.layouts[-1].name == "fine"
        points, layers = random_points(rng, 2000), [jq.Layer("s", jq.Triplanar())]
        weights = jq.PointWeights(("s",), np.zeros((2000, 1), np.uint8), np.ones((2000, 1), np.float32))
        shader = blend_shader(arrays, layers, filtering="exact", filter="bilinear")
        found = _device.blended(shader, arrays, points, weights)
        wanted = jq.Blend(arrays, layers, filter="bilinear").at(points, weights, normals="world")
        assert np.abs(found["height"].ravel() - wanted["height"].ravel()).max() < 2 / 65535
        assert np.abs(found["normal"] - wanted["normal"]).max() < 2e-4

    @pytest.mark.parametrize("pixels", ["unorm8", "half", "unorm16"])
    def test_arrays_of_any_layout_are_read_as_they_lie_in_their_files(self, pixels):
        """In any order, inverted, of several formats, with slices that swatches share."""
        rng = np.random.default_rng(5)
        swatches = [made_swatch(f"s{n}", n, 16, 2.0, 0.1, ALL_ROLES if n == 1 else ROLES) for n in range(3)]
        swatches[2] = replace(
            swatches[2], maps={**swatches[2].maps, jq.MapRole.SPECULAR: swatches[0].maps[jq.MapRole.SPECULAR]}
        )
        form = next(each for each in PixelFormat if each.key == pixels)
        layouts = [
            jq.layout_of("my colours", ["diffuse.b", "diffuse.g", "diffuse.r", "1 - height"]),
            jq.layout_of("texture", ["roughness", "1 - normal.y", "normal.x", "occlusion"], form),
            jq.layout_of("specular", ["specular.r", "specular.g", "specular.b", 1.0]),
            jq.layout_of("coats", ["coat", "coat_roughness", "coat_normal.x", "coat_normal.y"]),
            jq.layout_of("glow", ["emission.r", "emission.g", "emission.b", 1.0]),
        ]
        arrays = jq.pack(swatches, side=16, layouts=layouts, work=jq.Work(threads=1))
        assert arrays.slice_count("specular") == 2
        layers = [jq.Layer(f"s{n}", jq.Triplanar(), softness=0.5) for n in range(3)]
        points = random_points(rng, 40)
        weights = random_weights(rng, 40, ["s0", "s1", "s2"], 3)
        shader = blend_shader(arrays, layers, filtering="exact")
        assert shader.samplers == ("array_my_colours", "array_texture", "specular", "array_coats", "array_glow")
        found = _device.blended(shader, arrays, points, weights)
        blend = jq.Blend(arrays, layers)
        kernel = blend.at(points, weights, normals="world")  # of 8 bits, whatever the files have
        off = worst(found, {each.role: kernel[each.role].astype(float) for each in blend.plan.outputs})
        assert np.sort(off)[-2] < (0.1 if pixels == "unorm8" else 0.8)

    def test_the_demo_by_the_sampler_is_what_the_kernel_gives(self, saltworks):
        """Near by, where full-size texels show, and from so far that mips do; what stands for brine far away comes in."""
        quilt = jq.read_quilt(saltworks)
        arrays, ground, films = jq.pack(quilt.swatches, side=64), quilt.terrain, quilt.films_on("ground")
        shader = blend_shader(arrays, quilt.layers, films=films, title="saltworks")
        assert shader.left_out == ()
        weights = jq.weigh(ground.canvas(256), quilt.layers)
        for size in (48, 1500):
            points = ground.points((size, size))
            some = np.random.default_rng(size).integers(0, len(points), 2000)
            points = points[some]
            own = weights.at(points)
            known = [film.on(ground.canvas(64).fields) for film in films]
            found = _device.blended(shader, arrays, points, own, known, exact=False, eye=quilt.camera.position)
            blend = jq.Blend(arrays, quilt.layers, films=known)
            kernel = blend.at(points, own, normals="world", eye=quilt.camera.position)
            off = worst(found, {each.role: kernel[each.role].astype(float) for each in blend.plan.outputs})
            assert np.percentile(off, 99) < 2
            assert off.mean() < 0.5

    @pytest.mark.parametrize("dialect", ["glsl", "essl"])
    def test_the_program_that_draws_the_ground_compiles_and_its_block_is_as_reported(self, saltworks, dialect):
        """With what the demo has, and with a layer by uv, of which directions are made from the screen."""
        quilt = jq.read_quilt(saltworks)
        arrays = jq.pack(quilt.swatches, side=64)
        by_uv = [
            jq.Layer("cracked clay", jq.Uv(detail="cheap")),
            jq.Layer("salt crust", per_map={"normal": jq.PerMap(scale=2.0)}),
        ]
        for layers, films in ((quilt.layers, quilt.films_on("ground")), (by_uv, ())):
            shader = blend_shader(arrays, layers, dialect=dialect, films=films)
            program = _device.context.program(shader.vertex, shader.fragment)
            assert program["Blend"].size == len(shader.block)
            assert "diffuse_height" in program

    @pytest.mark.parametrize("form", ["splat", "pairs"])
    def test_weights_are_read_as_the_weight_map_answers(self, saltworks, tmp_path, form):
        quilt = jq.read_quilt(saltworks)
        arrays = jq.pack(quilt.swatches, side=16)
        kept = jq.weigh(quilt.terrain.canvas(128), quilt.layers, keep=4)
        write = {"splat": jq.export.write_splat, "pairs": jq.export.write_pairs}[form]
        assert write(kept, tmp_path)[-1].suffix == ".json"
        sheets = {path.stem: read_image(path) for path in tmp_path.glob("*.png")}
        points = quilt.terrain.points((97, 97))
        shader = blend_shader(arrays, quilt.layers, weights=form, films=quilt.films_on("ground"))
        found, wanted = _device.weights(shader, sheets, points), dense(kept.at(points))
        assert np.abs(found / found.sum(axis=1, keepdims=True) - wanted).max() < 0.003


def dense(own):
    """Weights of points, (N, L)."""
    out = np.zeros((len(own.layers), len(own.names)))
    for column in range(own.layers.shape[1]):
        np.add.at(out, (np.arange(len(out)), own.layers[:, column].astype(int)), own.weights[:, column])
    return out


@needs_driver
class TestLiveMasks:
    def random_mask(self, rng, depth=0):
        """Whatever a shader works out."""
        kind = rng.integers(8 if depth < 2 else 4)
        if kind < 2:
            form, flat = ("smooth", "billowed", "ridged", "cellular")[rng.integers(4)], int(rng.integers(2, 4))
            how = {"octaves": int(rng.integers(1, 4)), "seed": int(rng.integers(99)), "period": int(rng.choice([0, 0, 3]))}
            return jq.Noise(
                size=rng.uniform(1, 9), kind=form, dimensions=flat, threshold=rng.uniform(0.3, 0.7), range=0.6, **how
            )
        if kind == 2:
            return jq.HeightBand(rng.uniform(0, 2), rng.uniform(2, 4), rng.uniform(0.2, 2))
        if kind == 3:
            return [jq.Slope(5, 30, 20), jq.Facing(rng.uniform(0, 360), fade=60), jq.Constant(0.4)][rng.integers(3)]
        below, above = (self.random_mask(rng, depth + 1) for _ in range(2))
        if kind == 4:
            return [~below, below.cut(0.4, 0.5), below.levels(0.1, 0.8, 1.4)][rng.integers(3)]
        other = [below * above, below + above, below - above, below | above, below & above, below ^ above]
        return [*other, below.mixed(above, 0.3)][rng.integers(7)]

    @settings(max_examples=8, deadline=None)
    @given(seed=st.integers(0, 10**6), stacking=st.sampled_from(["cover", "share"]), adopts=st.booleans())
    def test_random_masks_are_what_a_weigher_answers(self, seed, stacking, adopts):
        rng = np.random.default_rng(seed)
        arrays = jq.pack([made_swatch(name) for name in "ab"], side=4, work=jq.Work(threads=1))
        turns = [jq.Noise(size=3, octaves=2), jq.Noise(size=4), jq.Heights((1.0, 2.5), wobble=0.5), self.random_mask(rng)]
        medley = jq.Medley(("a", "b"), turns[rng.integers(4)], softness=float(rng.choice([0.3, 1.0])))
        layers = [jq.Layer("a"), jq.Layer("b", mask=self.random_mask(rng), medley=medley)]
        layers += [jq.Layer("a", mask=self.random_mask(rng), label=name) for name in ("third", "fourth")]
        ground = jq.Terrain(rng.random((9, 9)) * 4, size=(16, 16), between="cubic")
        old = (
            jq.weigh(ground.canvas(8), [jq.Layer("b"), jq.Layer("a", label="third", mask=jq.Noise(size=5))]) if adopts else None
        )
        live = jq.export.live_weights(layers, stacking=stacking, adopted=old.names if adopts else ())
        sheets = {"noise_quantiles": live.noise_quantiles.astype(np.float32)[..., None]} if len(live.noise_quantiles) else {}
        if adopts:
            sheets["adopted_0"] = np.stack([whole_weight(old, n) for n in (0, 1)], axis=2)
        points = ground.points((40, 40))
        shader = blend_shader(arrays, layers, weights=live)
        found = _device.weights(shader, sheets, points)
        wanted = dense(jq.Weigher(layers, ground, stacking=stacking, adopted=old).at(points))
        off = np.abs(found - wanted).max(axis=1)
        assert np.percentile(off, 99) < 2 / 255
        assert np.median(off) < 2e-3 if adopts else np.median(off) < 1e-4

    def test_the_demos_masks_are_worked_out_and_the_rest_is_read(self, own_saltworks):
        """Distances and warps come from a sheet, adopted weights from another; where daubs lie, what they left."""
        code, _, errors = jquilt("export", "shader", own_saltworks, "--weights", "live")
        assert code == 0, errors
        out = own_saltworks.parent / "out"
        sheets = {path.stem: read_image(path) for path in (out / "export").glob("*.*") if path.suffix in (".png", ".exr")}
        assert {"sampled_0", "adopted_0", "painted_weights", "noise_quantiles", "splat_0"} <= set(sheets)
        quilt = jq.read_quilt(own_saltworks)
        results = Results(quilt, out)
        arrays, live = results.arrays, masks_in_shader(results)
        assert len(live.sampled) <= 4
        shader = blend_shader(arrays, quilt.layers, weights=live, films=quilt.films_on("ground"))
        points = quilt.terrain.points((256, 256))[np.arange(0, 256 * 256, 7)]  # where the texels of the sheets are
        found, places = _device.weights(shader, sheets, points), (points.uv * 256).astype(int)
        painted = sheets["painted_weights"][places[:, 1], places[:, 0], 0] == 255
        bare = dense(jq.Weigher(results.layers, quilt.terrain, adopted=results.adopted).at(points))
        off = np.where(painted[:, None], np.abs(found - dense(results.weights.at(points))), np.abs(found - bare)).max(axis=1)
        assert 0.005 < painted.mean() < 0.5
        assert np.percentile(off[painted], 80) < 0.01
        assert np.percentile(off[~painted], 99) < 0.012
        assert "live" in jquilt("export", "weights", own_saltworks, "--as", "live")[2]


@needs_driver
class TestLight:
    LIGHTS = (
        jq.Sun(bearing=200, height=30),
        jq.PointLight(position=(1.0, 2.0, 0.5), strength=4, reach=9, radius=0.3),
        jq.PointLight(position=(-2.0, 1.0, 0.5), fall_off=(0.5, 0.2, 0.3)),
        jq.SpotLight(position=(0.0, 4.0, 0.0), target=(0.3, 0.0, 0.1), inner=10, outer=35, colour=(0.3, 0.6, 1.0)),
    )

    @pytest.mark.parametrize("coat", [False, True])
    @pytest.mark.parametrize("dialect", ["glsl", "essl"])
    @pytest.mark.parametrize(("count", "sky"), [(0, "gradient"), (1, "image"), (4, "gradient"), (4, "image")])
    def test_it_is_what_our_light_gives(self, coat, dialect, count, sky):
        """On random surfaces, seen from behind too, in shadow and out of it; under a gradient, and a sky that is an image."""
        rng, n = np.random.default_rng(3), 400
        unit = lambda: (lambda v: v / np.linalg.norm(v, axis=1, keepdims=True))(rng.normal(size=(n, 3))).astype(np.float32)
        of = lambda *shape: rng.random((n, *shape)).astype(np.float32)
        given = {"diffuse": of(3), "normal": unit(), "roughness": of(1), "specular": of(3), "occlusion": of(1)}
        if coat:
            given |= {"emission": of(3), "coat": of(1), "coat_normal": unit(), "coat_roughness": of(1)}
        to_eye, place = unit(), rng.uniform(-3, 3, (n, 3)).astype(np.float32)
        columns = [given["diffuse"], given["normal"], given["roughness"], given["specular"], of(1), given["occlusion"]]
        columns += [given[key] for key in ("emission", "coat", "coat_normal", "coat_roughness")] if coat else []
        image = jq.SkyImage(np.random.default_rng(7).gamma(0.5, 0.5, (24, 48, 3)), bearing=77)
        lighting = Lighting(self.LIGHTS[:count], image if sky == "image" else jq.Sky())
        free = rng.integers(0, 2, (n, max(1, count))).astype(np.float32)
        surface = LitSurface(np.concatenate(columns, axis=1), to_eye)
        wanted = lighting.leaving(surface, place.astype(float), list(free.T[:count]))
        shader = light_shader(lighting, coat=coat)
        found = _device.lit(shader, {**given, "place": place, "to_eye": to_eye}, free, dialect)
        is_image = sky == "image"  # of noise, found by a driver's arc tangent
        assert np.allclose(found, wanted, rtol=3e-3, atol=1e-3 if is_image else 1e-5)  # narrow lobes, in float32
        assert np.median(np.abs(found - wanted)) < (5e-6 if is_image else 1e-6)


@pytest.mark.skipif(not shutil.which("glslangValidator"), reason="glslangValidator is not here (Debian: glslang-tools)")
class TestValidator:
    @pytest.mark.parametrize("dialect", ["glsl", "essl"])
    def test_the_reference_compiler_takes_every_source(self, saltworks, tmp_path, dialect):
        """The demo's ground, all projections with all knobs filtered both ways, and light with and without coats."""
        quilt = jq.read_quilt(saltworks)
        arrays = jq.pack(quilt.swatches, side=16)
        made = [blend_shader(arrays, quilt.layers, dialect=dialect, films=quilt.films_on("ground"))]
        live = jq.export.live_weights(quilt.layers, painted=True)
        made.append(blend_shader(arrays, quilt.layers, dialect=dialect, weights=live))
        for seed, filtering in ((1, "exact"), (2, "sampler"), (3, "exact"), (4, "sampler")):
            own, layers, films = random_blend(np.random.default_rng(seed), "trilinear", True)
            made.append(blend_shader(own, layers, dialect=dialect, films=films, filtering=filtering, weights="pairs"))
        sources = {
            f"{n}.{kind}": text for n, one in enumerate(made) for kind, text in (("vert", one.vertex), ("frag", one.fragment))
        }
        head = made[0].source.partition("//")[0]
        for name, sky in (("image", jq.clear_sky(jq.Sun(), rows=16)), ("gradient", jq.Sky())):
            light = light_shader(Lighting(TestLight.LIGHTS, sky), coat=name == "image").source
            sources[f"{name}.frag"] = head + light + "out vec4 seen;\nvoid main() { seen = vec4(1.0); }\n"
        for name, text in sources.items():
            (tmp_path / name).write_text(text)
        done = subprocess.run(["glslangValidator", *(tmp_path / name for name in sources)], capture_output=True, text=True)
        assert done.returncode == 0, done.stdout


class TestSource:
    def test_only_what_is_used_stands_in_it(self):
        arrays = jq.pack([made_swatch("a"), made_swatch("b", 1)], side=16, work=jq.Work(threads=1))
        plain = blend_shader(arrays, [jq.Layer("a"), jq.Layer("b")]).source
        for word in ("hashed", "around_axis", "by_uv", "lay_film", "group <", "folded", "make_unit", "//?", "{{"):
            assert word not in plain
        assert "#define LAYERS 2" in plain
        assert plain.count("\n") < 262
        shuffled = blend_shader(arrays, [jq.Layer("a", jq.Planar(shuffle=jq.Shuffle(size=1)))]).source
        assert "Heitz and Neyret" in shuffled
        assert "at most 3 places" in shuffled

    def test_the_block_says_what_lies_where(self):
        arrays = jq.pack([made_swatch("a", tile=4.0)], side=16, work=jq.Work(threads=1))
        shader = blend_shader(arrays, [jq.Layer("a", softness=0.5)])
        at = {name: offset for name, offset, _ in shader.members}
        numbers = np.frombuffer(shader.block, np.float32)
        assert numbers[at["layers[0].lies"] // 4] == 0.25  # repeats for a metre
        assert numbers[at["layers[0].meets"] // 4] == 1.0  # hardness
        assert {kind for _, _, kind in shader.members} == {"vec4", "ivec4"}

    def test_what_it_cannot_do_is_reported_or_refused(self):
        arrays = jq.pack([made_swatch("a")], side=16, work=jq.Work(threads=1))
        bent = jq.Layer("a", jq.Planar(warp=jq.Warp(by=1.0, size=2.0)), far=jq.Far(start=1.0, over=1.0, scale=2.0))
        assert blend_shader(arrays, [bent]).left_out == ('layer "a": its warp; it lies unbent',)
        many = [jq.Layer("a", label=str(n)) for n in range(60)]
        with pytest.raises(
            jq.QuiltError, match=r"3 arrays, 15 sheets of weights and 0 films; OpenGL ES promises 16 textures.*pairs"
        ):
            blend_shader(arrays, many, dialect="essl")
        assert "pairs_numbers" in blend_shader(arrays, many, dialect="essl", weights="pairs").source
        assert blend_shader(arrays, many).layers[-1] == "59"
        with pytest.raises(jq.QuiltError, match="dialect"):
            blend_shader(arrays, [jq.Layer("a")], dialect="spoken")

    def test_the_command_writes_all_that_it_reads(self, own_saltworks):
        code, said, errors = jquilt("export", "shader", own_saltworks, "--as", "essl")
        assert code == 0, errors
        out = own_saltworks.parent / "out" / "export"
        assert (out / "blend.glsl").read_text().startswith("#version 300 es\n")
        document = json.loads((out / "blend.json").read_text())
        assert document["bytes"] == (out / "blend.bin").stat().st_size
        names = {path.name for path in out.iterdir()}
        assert {"splat_0.png", "film_0.png", "ground.vert", "ground.frag", "light.glsl", "sky_light.exr"} <= names
        assert re.search(r"layered gypsum: triplanar, at most 3 places", said)
        assert "brine far away: planar, at most 1 place to read" in said
        assert re.search(r"costs nothing: [12]\.\d on average over the ground, patches and maps apart not counted\.", said)
        assert jquilt("export", "shader", own_saltworks, "--as", "spoken")[0] == 2
        code, said, _ = jquilt("export", "shader", own_saltworks, "--weights", "pairs")
        assert (code, "pairs_numbers.png" in said, "2 sheets of weights" in said) == (0, True, True)
        assert jquilt("export", "shader", own_saltworks, "--weights", "masks")[0] == 2

    def test_light_is_written_with_its_tables_and_what_it_lacks_is_reported(self, tmp_path):
        lights = (jq.Sun(size=2.0), jq.PointLight(position=(1.0, 2.0, 3.0), reach=7.0))
        shader = light_shader(Lighting(lights, jq.clear_sky(jq.Sun(), rows=16)))
        assert shader.left_out == ("the size of sun 0: its shadows are yours",)
        assert shader.tables["sky_light"].shape == (16 + 64 + 32 + 16 + 3 * 8 + 1, 128, 3)  # the sky, its images, harmonics
        large = light_shader(Lighting(lights, jq.SkyImage(np.full((1032, 2064, 3), 0.5, np.float32))))
        assert large.tables["sky_light"].shape[1] == 1032  # half, since OpenGL ES promises 2048
        plain = light_shader(Lighting(lights, jq.Sky.even(0.5)))
        assert np.allclose(plain.tables["sky_light"], 0.5, atol=1e-6)  # an even sky is the same in every mirror
        assert "coat" not in plain.source
        assert "#define LAMPS 2" in plain.source
        lamps = np.frombuffer(plain.block, np.float32).reshape(2, 5, 4)
        assert lamps[1, 0].tolist() == [1, 2, 3, 1]
        assert (lamps[0, 0, 3], lamps[1, 1, 3]) == (0, 7)
        files = write_light(plain, tmp_path)
        assert [each.name for each in files] == ["light.glsl", "light.bin", "thrown_back.exr", "sky_light.exr"]
        assert np.array_equal(read_image(files[2]), plain.tables["thrown_back"])

    def test_a_layer_read_along_its_footprint_asks_the_sampler(self):
        arrays = jq.pack([made_swatch("a")], side=16, work=jq.Work(threads=1))
        fine = blend_shader(arrays, [jq.Layer("a", jq.Planar(filter="anisotropic"))]).source
        assert "textureGrad" in fine
        assert "textureGrad" not in blend_shader(arrays, [jq.Layer("a")]).source

    @needs_driver
    def test_what_the_sampler_reads_along_a_footprint_is_a_colour(self):
        arrays, points = (
            jq.pack([made_swatch("a")], side=16, work=jq.Work(threads=1)),
            random_points(np.random.default_rng(1), 30),
        )
        shader = blend_shader(arrays, [jq.Layer("a", jq.Planar(filter="anisotropic"))])
        found = _device.blended(shader, arrays, points, jq.PointWeights.all_of("a", 30), exact=False)
        assert np.isfinite(found["diffuse"]).all()
        assert np.ptp(found["diffuse"]) > 0


@needs_driver
class TestBakeOnADriver:
    def test_its_maps_are_those_of_our_bake(self, own_saltworks):
        """Ground and meshes, with films, within a step of 255; another run by the kernel bakes anew."""
        code, said, errors = jquilt("bake", own_saltworks, "--on", "gpu")
        assert code == 0, errors
        assert f"blended by the exported shader on {_device.driver.name}" in said
        out = own_saltworks.parent / "out"
        folders = [out / "bake", out / "meshes" / "jar", out / "meshes" / "sluice_gate"]
        by_shader = [jq.open_baked(folder) for folder in folders]
        said = jquilt("bake", own_saltworks)[1]
        assert "blended by" not in said
        for found, wanted in zip(by_shader, map(jq.open_baked, folders), strict=True):
            assert found.keys() == wanted.keys()
            for role in wanted:
                step = 257 if role is jq.MapRole.HEIGHT else 1
                off = np.abs(found[role].astype(int) - wanted[role]) / step
                assert (off > 1.01).mean() < 1e-4, role  # where a side of a box changes

    def test_what_a_shader_does_not_do_as_the_bake_is_refused(self, own_saltworks):
        text = own_saltworks.read_text()
        for change, why in (
            ('swatch = "raked gravel"\nfilter = "anisotropic"', 'say filter = "trilinear"'),
            ('swatch = "raked gravel"\nwarp = { by = 0.5, size = 3.0 }', 'layer "raked gravel": its warp'),
        ):
            own_saltworks.write_text(text.replace('[[layer]]\nswatch = "raked gravel"', "[[layer]]\n" + change, 1))
            code, _, errors = jquilt("bake", own_saltworks, "--on", "gpu", "--texels", "16")
            assert (code, why in errors) == (2, True), errors
        code, _, errors = jquilt("bake", own_saltworks, "--on", "gpu", "--store", own_saltworks.parent / "pages")
        assert (code, "leave --store away" in errors) == (2, True)


def test_without_a_driver_the_error_says_so(own_saltworks):
    nothing = {"__EGL_VENDOR_LIBRARY_FILENAMES": "/nowhere", "EGL_PLATFORM": "nothing"}
    code, _, errors = jquilt("bake", own_saltworks, "--on", "gpu", "--texels", "16", env=nothing)
    assert code == 2
    assert "there is no OpenGL driver without a window" in errors


class TestLiveSource:
    """What masks become as source, with no driver needed to see it."""

    def of(self, mask, **how):
        made = jq.export.live_weights([jq.Layer("a"), jq.Layer("b", mask=mask)], **how)
        return re.search(r"answers\[1\] = (.*);  // b", made.source)[1], made

    @pytest.mark.parametrize(
        ("mask", "source"),
        [
            (jq.HeightBand(2, 6, 1.5), "banded(high, 2.0, 6.0, 1.5)"),
            (jq.Slope(0, 30), "banded(slope, 0.0, 30.0, 0.0)"),
            (jq.Facing(90), "facing_of(point.normal, 90.0, 45.0, 30.0, 4.0)"),
            (~jq.Slope(0, 30), "1.0 - banded(slope, 0.0, 30.0, 0.0)"),
            (~(~jq.Constant(0.25)), "1.0 - (1.0 - 0.25)"),
            (jq.Constant(0.25) * ~jq.Constant(0.5), "0.25 * (1.0 - 0.5)"),
            (jq.Constant(0.25) | jq.Constant(0.5), "max(0.25, 0.5)"),
            (jq.Constant(0.25) ^ jq.Constant(0.5), "abs(0.25 - 0.5)"),
            (jq.Constant(0.25).mixed(0.5, 0.125), "clamp(0.25 + 0.125 * (0.5 - 0.25), 0.0, 1.0)"),
            (jq.HeightBand(0, 1).cut(0.5, 0.5), "stepped(banded(high, 0.0, 1.0, 0.0), 0.25, 0.75)"),
            (jq.Constant(0.5).levels(0.25, 0.75, 2), "pow(clamp((0.5 - 0.25) * 2.0, 0.0, 1.0), 0.5)"),
        ],
        ids=lambda each: each if isinstance(each, str) else "",
    )
    def test_a_mask_reads_as_it_is_said(self, mask, source):
        found, made = self.of(mask)
        assert found == source
        assert (made.sampled, made.sheets, len(made.noise_quantiles)) == ((), 0, 0)

    def test_a_noise_is_worked_out_once_however_often_it_is_asked(self):
        noise = jq.Noise(size=3.0, threshold=0.5, range=0.5)
        found, made = self.of(noise * jq.Noise(size=3.0, threshold=0.25, range=0.0) + jq.Noise(size=3.0, seed=1))
        first, second = "stepped(noises[0], 0.25, 0.75)", "stepped(noises[0], 0.25, 0.25)"
        assert found == f"min({first} * {second} + stepped(noises[1], 0.4, 0.6), 1.0)"
        assert made.source.count("Noise(3.0, ") == 2
        assert made.noise_quantiles.shape == (1, 1025)
        assert (np.diff(made.noise_quantiles[0]) >= 0).all()

    def test_what_a_shader_cannot_know_is_read_and_said(self):
        bent = jq.HeightBand(0, 1).warped(by=1.0, size=3.0)
        found, made = self.of(bent * jq.Slope(0, 30) * bent)
        assert found == "sampled_by_sheets[0] * banded(slope, 0.0, 30.0, 0.0) * sampled_by_sheets[0]"
        assert made.sampled == (bent,)
        assert "sampled_by_sheets[0] = sampled_sheet_0.r;  // height 0 to 1 m, warped by 1 m" in made.source
        assert made.sheets == 1

    def test_shared_masks_stand_in_a_name_of_their_own(self):
        own = Shared(jq.Slope(0, 30) * jq.HeightBand(0, 5), "rock")
        found, made = self.of(own | ~own)
        assert found == "max(shared_0, (1.0 - shared_0))"
        assert "float shared_0 = banded(slope, 0.0, 30.0, 0.0) * banded(high, 0.0, 5.0, 0.0);  // rock" in made.source

    def test_adopted_and_painted_weights_are_read_from_sheets(self):
        found, made = self.of(jq.Slope(0, 30), adopted=("a", "b"), painted=True)
        assert found == "texture(adopted_0, uv).g * banded(slope, 0.0, 30.0, 0.0)"
        assert "bool is_adopted[2] = bool[](true, true);" in made.source
        assert "weight[1] = mix(weight[1], sheet_0.g, painted);  // b" in made.source
        assert made.sheets == 3

    def test_turns_are_taken_as_the_medley_says(self):
        of = lambda by, softness: (
            jq.export.live_weights(
                [jq.Layer("a"), jq.Layer("b", mask=jq.Constant(1), medley=jq.Medley(("a", "b"), by, softness))]
            ).source
        )
        assert "float turns[2] = float[](noises[0], noises[1]);" in of(jq.Noise(size=2), 0.3)
        assert "turns[turn] == top && sum == 0.0 ? 1.0 : 0.0" in of(jq.Noise(size=2), 0.0)
        assert "float goes_by = high, stops[2] = float[](1.0, 5.0);" in of(jq.Heights((1, 5)), 1.0)
        assert "part >= 0.5 ? 1.0 : 0.0" in of(jq.Slope(0, 30), 0.0)

    def test_only_live_weights_are_live(self):
        arrays = jq.pack([made_swatch("a")], side=4, work=jq.Work(threads=1))
        with pytest.raises(jq.QuiltError, match="live_weights"):
            blend_shader(arrays, [jq.Layer("a")], weights="live")


class TestPlans:
    def test_a_plan_of_a_meshs_part_is_what_its_layers_are_in_its_space(self):
        """The plan brings its own frame, metres and films; told in two ways the source is the same."""
        arrays = jq.pack([made_swatch("a")], side=4, work=jq.Work(threads=1))
        layers = [jq.Layer("a", jq.Triplanar(space="object"))]
        frame = np.eye(4)
        frame[:3, 3] = 3.0, 0.0, 1.0
        placed = blend_shader(arrays, jq.BlendPlan.of(layers, arrays.open(), frame=frame))
        plain = blend_shader(arrays, layers)
        assert placed.source == plain.source
        assert placed.block != plain.block
        assert plain.block == blend_shader(arrays, jq.BlendPlan.of(layers, arrays.open())).block

    def test_what_stands_for_a_layer_far_away_can_be_left_out(self):
        arrays = jq.pack([made_swatch("a"), made_swatch("b", 1)], side=4, work=jq.Work(threads=1))
        layers = [jq.Layer("a", far=jq.Far(start=3.0, swatch="b")), jq.Layer("b", mask=jq.Constant(0.5))]
        plan = jq.BlendPlan.of(layers, arrays.open())
        near = plan.near_alone()
        assert (len(plan.layers), len(near.layers)) == (3, 2)
        assert near.near_alone() is near
        assert "seen_from_eye" in blend_shader(arrays, plan).source
        assert "seen_from_eye" not in blend_shader(arrays, near).source

    def test_a_map_whose_channels_lie_in_two_arrays_is_refused(self):
        layouts = [jq.layout_of("one", ["diffuse.r", "diffuse.g"]), jq.layout_of("two", ["diffuse.b", "height"])]
        arrays = jq.pack([made_swatch("a")], side=4, layouts=layouts, work=jq.Work(threads=1))
        with pytest.raises(jq.QuiltError, match="none holds those of diffuse; pack them together"):
            blend_shader(arrays, [jq.Layer("a")])
