"""The blend agrees with a plain reference, and keeps its promises whatever the block, the thread or the tile."""

import platform
import re
from dataclasses import fields, replace

import numba
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import jagged_quilt as jq
from conftest import made_maps, made_swatch
from jagged_quilt.blend import (
    _lane_kernels,
    _mapping_kernels,
    _mix_kernels,
    _plane_kernels,
    _sample_kernels,
    _sample_set_kernels,
)
from jagged_quilt.blend import _rows as k
from jagged_quilt.foundation.compiler import _FAST, _KERNEL
from jagged_quilt.light import _kernels as _light_kernels
from jagged_quilt.light import _rows as _light_rows
from jagged_quilt.maps.roles import stored_type
from jagged_quilt.surfaces import _kernels as _ground_kernels
from reference_blend import Decoded, blend_point, linear, planes_of, read_at, stored

LAYOUTS = ("diffuse_height", "normal_roughness_occlusion", "specular")
RARE_LAYOUTS = ("emission_coat", "coat_normal_roughness", "opacity")
R = jq.MapRole
ROLES = jq.SURFACE_ROLES
ALL_ROLES = (*ROLES, *jq.OPTIONAL_ROLES)


def random_points(rng, count):
    normal = rng.normal(size=(count, 3))
    tangent = np.cross(normal, rng.normal(size=(count, 3)))
    handed = np.column_stack([tangent, rng.choice([-1, 1], count)])
    points = jq.Points.of(
        rng.uniform(-50, 50, (count, 3)),
        normal,
        handed,
        2 ** rng.uniform(-7, 2, (count, 2)),
        uv=rng.uniform(-2, 2, (count, 2)),
        uv_gradient=rng.normal(size=(count, 2, 3)),
    )
    steps = points.true_steps() + np.float32(0.3) * points.true_steps()[:, ::-1]
    return replace(points, steps=steps)


def random_projection(rng):
    """Any kind, moved, turned, mirrored, stretched, wrapped and read in any way."""
    pick = lambda *choices: choices[rng.integers(len(choices))]
    turn = float(rng.uniform(-180, 180))
    lie = {
        "offset": tuple(rng.uniform(-3, 3, 2)),
        "mirror": pick("", "u", "v", "uv"),
        "scale": tuple(rng.uniform(0.5, 2, 2)),
        "wrap": pick("repeat", "clamp", "mirror", ("repeat", "mirror")),
        "detail": pick("exact", "cheap"),
        "filter": pick(None, "nearest", "bilinear", "trilinear", "anisotropic"),
        "anisotropy": int(rng.integers(1, 17)),
    }
    round_ = {**lie, "centre": tuple(rng.uniform(-3, 3, 3)), "radius": float(rng.uniform(0.5, 9)), "rotation": pick(0, 180)}
    return pick(
        jq.Triplanar(4, rotation=turn, **lie),
        jq.Box(rotation=turn, **lie),
        jq.Uv(metres=1.7, rotation=turn, **lie),
        jq.Planar(pick("x", "y", "z"), rotation=turn, **lie),
        jq.Spherical(**round_),
        jq.Cylindrical(**round_),
        jq.Polar(**round_, spiral=pick(0.0, 25.0)),
    )


def random_film(rng):
    """Water, dust, or what is none of both."""
    pick = lambda *these: these[rng.integers(len(these))]
    return jq.Film(
        mask=jq.Constant(pick(0.0, 0.3, 0.6, 1.0)),
        hollows=pick(0.0, 0.5, 1.0),
        softness=pick(0.2, 0.9),
        tint=pick("#ffffff", (0.4, 0.5, 0.7)),
        colour=pick(None, "#c0a070"),
        hides=pick(1.0, 0.4),
        roughness=pick(None, 0.05, 0.9),
        specular=pick(None, 0.02),
        level=pick(0.0, 0.5, 1.0),
    )


def random_knobs(rng, number):
    """What a layer may do to its maps, and where it meets another one."""
    pick = lambda *these: these[rng.integers(len(these))]
    tuning = jq.Tuning(
        normal=pick(0.0, 1.0, 2.5),
        relief=pick(0.5, 1.0, 1.8),
        lift=pick(0.0, 0.05, -0.2),
        occlusion=pick(0.0, 1.0, 1.7),
        roughness=pick(0.0, 0.3, -0.4),
        tint=pick("#ffffff", "#80c0ff", (1.4, 0.2, 1.0)),
        brightness=pick(1.0, 0.6, 1.5),
        hue=pick(0.0, 140.0, -20.0),
        saturation=pick(0.0, 1.0, 1.6),
    )
    per_map = {
        "normal": jq.PerMap(scale=pick(0.4, (2.0, 0.7)), rotation=30.0),
        "roughness": jq.PerMap(offset=(0.3, 0.1), scale=1.3),
        "height": jq.PerMap(rotation=-70.0),
        "diffuse": jq.PerMap(scale=0.5),
    }
    some = {key: own for key, own in per_map.items() if rng.random() < 0.3}
    return {"tuning": tuning, "per_map": some, "meets": {"s0": pick(0.02, 0.7)} if number == 2 and rng.random() < 0.7 else {}}


def room_for(count):
    """Where a blend stores finished texels."""
    return {role: np.zeros((count, role.value.channels), stored_type(role)) for role in ALL_ROLES}


def kept(names, index, weight):
    return jq.PointWeights(tuple(names), np.asarray(index, np.uint8), np.asarray(weight, np.float32))


def random_weights(rng, count, names, keep):
    index = np.array([rng.permutation(len(names))[:keep] for _ in range(count)]).astype(np.uint8)
    weight = rng.random((count, keep)) ** 2 * (np.arange(keep) < rng.integers(1, keep + 1, (count, 1)))
    return kept(names, index, weight / weight.sum(axis=1, keepdims=True))


def deepened(swatch, rng):
    """A swatch whose height and normals have 16 bits, random beyond the first 8."""
    deep = {}
    for role in (R.HEIGHT, R.NORMAL):
        texels = swatch.maps[role].texels
        numbers = 257 * texels.astype(np.int64) + rng.integers(-120, 121, texels.shape)
        deep[role] = jq.TextureMap(role=role, texels=np.clip(numbers, 0, 65535).astype(np.uint16))
    return replace(swatch, maps={**swatch.maps, **deep})


class TestMoreThanEightBits:
    """What maps of 16 bits hold beyond 8 reaches the end."""

    def sloped(self, side=64):
        """A swatch whose height rises by less than an 8-bit step a texel, and whose normals follow."""
        y, x = np.mgrid[:side, :side] / side
        height = (0.5 + 0.02 * np.sin(2 * np.pi * x) * np.cos(2 * np.pi * y)).astype(np.float32)
        normal = jq.convert.normal_from_height(height, tile=(9.0, 9.0))
        store = lambda values: np.rint(65535 * np.asarray(values, np.float64)).astype(np.uint16)
        maps = {
            R.DIFFUSE: np.full((side, side, 3), 90, np.uint8),
            R.HEIGHT: store(height)[..., None],
            R.NORMAL: store(0.5 * normal + 0.5),
        }
        return jq.Swatch(name="s", tile=2.0, relief=0.1, maps={r: jq.TextureMap(role=r, texels=t) for r, t in maps.items()})

    def arrays(self, form, side=64):
        if form == "beside":
            return jq.pack([self.sloped(side)], side=side)
        layouts = [
            jq.layout_of("diffuse", ["diffuse.r", "diffuse.g", "diffuse.b"]),
            jq.layout_of("height", ["height"], form),
            jq.layout_of("normal", ["normal.x", "normal.y"], form),
        ]
        return jq.pack([self.sloped(side)], side=side, layouts=layouts)

    @pytest.mark.parametrize(("form", "most"), [("beside", 2.0), ("unorm16", 2.0), ("half", 40.0)])
    def test_heights_and_normals_are_those_of_a_float64_blend(self, form, most):
        """Half floats hold 11 bits; heights are stored with 16, normals are asked for as numbers."""
        arrays, own = self.arrays(form), self.sloped()
        points = on_level_ground(random_points(np.random.default_rng(3), 4000))
        weights = kept(["s"], [[0]] * 4000, [[1.0]] * 4000)
        blend = jq.Blend(arrays, [jq.Layer("s")], filter="bilinear")
        near = [{"position": at.astype(float), "normal": np.array([0.0, 1.0, 0.0])} for at in points.position]
        uv = [planes_of(jq.Planar(), 2.0, each)[0][1] / 2.0 for each in near]
        stored_height = own.maps[R.HEIGHT].texels[..., 0].astype(np.float64)
        wanted = np.array([read_at(stored_height, *each) for each in uv])
        found = room_for(4000)
        blend.into(found, points, weights)
        assert np.abs(found[R.HEIGHT][:, 0] - wanted).max() <= most
        made = blend.at(points, weights)[R.NORMAL]
        assert len(np.unique(made[:, 0])) > 400
        xy = own.maps[R.NORMAL].texels[..., :2].astype(np.float64) / 32767.5 - 1
        expected = np.array([read_at(xy, *each) for each in uv])
        assert np.abs(made[:, :2] - expected).max() <= max(4.0, most) / 32767.5

    def test_eight_bits_cost_what_they_did(self):
        assert "fine" not in [layout.name for layout in jq.pack([made_swatch("a")], side=16).layouts]
        assert "fine" not in [layout.name for layout in jq.pack([made_swatch("a")], side=16).open().layouts]

    @pytest.mark.parametrize("form", ["beside", "unorm16"])
    def test_every_level_of_the_arrays_holds_them(self, form):
        arrays, swatch = self.arrays(form), self.sloped()
        for role in (R.HEIGHT, R.NORMAL):
            off = np.abs(arrays.values("s", role) - swatch.maps[role].values).max()
            assert off <= 3 / 32767
        half = swatch.maps[R.HEIGHT].values.reshape(32, 2, 32, 2, 1).mean(axis=(1, 3))
        assert np.abs(arrays.values("s", R.HEIGHT, level=1) - half).max() <= 2 / 65535

    def test_a_bake_has_no_stairs(self):
        ground = jq.Terrain(np.zeros((3, 3), np.float32), size=(2.0, 2.0))
        baked = jq.bake(ground.canvas(256), [jq.Layer("s")], self.arrays("beside"))["height"]
        assert len(np.unique(baked)) > 1000
        jumps = np.abs(np.diff(baked.astype(int), axis=1)).max()
        assert jumps < 128  # an 8-bit step is 257

    def test_a_texture_cache_reads_the_same(self):
        arrays, layers = self.arrays("beside"), [jq.Layer("s")]
        points, weights = random_points(np.random.default_rng(5), 300), kept(["s"], [[0]] * 300, [[1.0]] * 300)
        whole, cached = (jq.Blend(each, layers).at(points, weights)[R.HEIGHT] for each in (arrays, arrays.cached(8)))
        assert np.array_equal(whole, cached)


def on_level_ground(points):
    """The same points on level ground, whose normals are those of the map."""
    count = len(points)
    up, east = np.tile(np.float32([0, 1, 0]), (count, 1)), np.tile(np.float32([1, 0, 0, 1]), (count, 1))
    return jq.Points(position=points.position, normal=up, tangent=east, footprint=points.footprint)


class TestBlend:
    @settings(max_examples=40, deadline=None)
    @given(
        seed=st.integers(0, 10**6),
        filter=st.sampled_from(["nearest", "bilinear", "trilinear", "anisotropic"]),
        space=st.sampled_from(["tangent", "world"]),
        layouts=st.sets(st.sampled_from(LAYOUTS + RARE_LAYOUTS), min_size=1),
        softness=st.sampled_from([0.0, 0.05, 0.4, 1.0]),
        plain=st.booleans(),
        knobs=st.booleans(),
        deep=st.booleans(),
    )
    def test_it_agrees_with_float64_at_every_texel(self, seed, filter, space, layouts, softness, plain, knobs, deep):
        """PathGuard 1 of 255, for random layers, projections, knobs, footprints and arrays."""
        rng = np.random.default_rng(seed)
        count = 3
        swatches = [
            made_swatch(f"s{n}", seed + n, 16, rng.uniform(0.5, 9), rng.uniform(0.01, 0.3), ALL_ROLES if n == 1 else ROLES)
            for n in range(count)
        ]
        swatches[0] = replace(swatches[0], aspect=0.6 if knobs else 1.0)
        swatches = [deepened(each, rng) for each in swatches] if deep else swatches
        layouts = [*sorted(layouts), "fine"] if deep else sorted(layouts)
        arrays = jq.pack(swatches, side=16, layouts=layouts, work=jq.Work(threads=1))
        kinds = [jq.Planar(), jq.Triplanar(4), jq.Triplanar(float(rng.uniform(1, 30)))]
        kinds = kinds if plain else [random_projection(rng) for _ in kinds]
        filter = "trilinear" if filter == "nearest" and plain else filter
        turned = [random_knobs(rng, n) if knobs else {} for n in range(count)]
        for n in range(count if knobs else 0):
            if isinstance(kinds[n], jq.Spherical | jq.Cylindrical | jq.Polar):
                turned[n]["per_map"] = {}
            elif kinds[n].wraps == ("repeat", "repeat") and rng.random() < 0.6:
                turn = ("none", "quarter", "any")[rng.integers(3) if n else 0]  # the first has no square tile
                border, size = rng.uniform(0.05, 1), rng.uniform(0.3, 3)
                kinds[n] = replace(
                    kinds[n], shuffle=jq.Shuffle(size=size, border=border, turn=turn, seed=int(rng.integers(99)))
                )
        layers = [jq.Layer(f"s{n}", kinds[n], softness=softness, **turned[n]) for n in range(count)]
        points = random_points(rng, 40)
        weights = random_weights(rng, 40, [layer.name for layer in layers], 3)
        films = [random_film(rng) for _ in range(2 if knobs else 0)]
        blend = jq.Blend(arrays, layers, filter=filter, films=films)
        found = room_for(40)
        blend.into(found, points, weights, normals=space)
        decoded, off = Decoded(arrays), 0
        for p in range(40):
            known = [each.name for each in fields(points) if each.name not in ("colour", "uv_tangent", "rest")]
            point = {name: getattr(points, name)[p].astype(float) for name in known}
            wanted = stored(
                blend_point(
                    decoded,
                    arrays,
                    layers,
                    point,
                    weights.layers[p],
                    weights.weights[p].astype(float),
                    filter,
                    space == "world",
                    [(film, float(film.mask.answer(points[p : p + 1])[0])) for film in films],
                )
            )
            stored_values = {r: found[r][p] / (257.0 if r is jq.MapRole.HEIGHT else 1.0) for r in ALL_ROLES}
            off += any(np.abs(stored_values[o.role] - wanted[o.role]).max() > 1.0 for o in blend.plan.outputs)
        # the nearest texel, a box and the number of samples change at a line, and a hard cut where two are as tall
        assert off <= (0 if plain and not knobs else 1)

    def test_a_tile_may_be_longer_one_way_and_its_slopes_stay(self):
        """As the square one with half the place along v; normals lie as they did."""
        swatch = made_swatch("a", 1, tile=2.0)
        square, flat = (jq.pack([replace(swatch, aspect=aspect)], side=16, work=jq.Work(threads=1)) for aspect in (1.0, 0.5))
        points = jq.Terrain(np.zeros((2, 2)), size=(4, 4)).points((40, 40))
        weights = jq.PointWeights.all_of("a", len(points))
        read = lambda arrays, lie: jq.Blend(arrays, [jq.Layer("a", lie)], filter="bilinear").at(points, weights)
        one, two = read(flat, jq.Planar()), read(square, jq.Planar(scale=(1, 0.5), detail="cheap"))
        assert np.allclose(one.values, two.values, atol=1e-6)
        with pytest.raises(jq.QuiltError, match="not square cannot be turned"):
            read(flat, jq.Planar(shuffle=jq.Shuffle(size=1)))

    def test_far_from_the_eye_another_tile_or_swatch_stands_in(self):
        """Near it is the layer, beyond its range the other, and between them the blend of both by a smooth step."""
        arrays = jq.pack([made_swatch("a", 1), made_swatch("b", 2), made_swatch("c", 3)], side=16, work=jq.Work(threads=1))
        rng = np.random.default_rng(3)
        points, weights = random_points(rng, 300), random_weights(rng, 300, "ab", 2)
        eye = np.array([1.0, 2.0, 3.0])
        away = np.linalg.norm(points.world - eye, axis=1)
        start = float(np.quantile(away, 0.3))
        over = float(np.quantile(away, 0.6)) - start
        lie = jq.Triplanar(rotation=20.0)
        near = [jq.Layer("a", lie), jq.Layer("b")]
        with_far = [jq.Layer("a", lie, far=jq.Far(start=start, over=over, scale=3.0, swatch="c")), jq.Layer("b")]
        beyond = [jq.Layer("c", jq.Triplanar(rotation=20.0, scale=3.0)), jq.Layer("b")]
        every = [*near, beyond[0]]
        relief = max(arrays.reliefs)
        blend = lambda layers: jq.Blend(arrays, layers, relief=relief)
        found = blend(with_far).at(points, weights, eye=eye).values
        assert np.array_equal(blend(with_far).at(points, weights).values, blend(near).at(points, weights).values)
        is_near, is_far = away < start, away > start + over
        assert np.array_equal(found[is_near], blend(near).at(points, weights).values[is_near])
        renamed = kept("cb", weights.layers, weights.weights)
        assert np.allclose(found[is_far], blend(beyond).at(points, renamed).values[is_far], atol=1e-6)
        t = np.clip((away - start) / over, 0, 1)[:, None]
        share = np.where(weights.layers == 0, t * t * (3 - 2 * t), 0)
        index = np.concatenate([weights.layers, np.full(weights.layers.shape, 2)], axis=1)
        both = kept("abc", index, np.concatenate([weights.weights * (1 - share), weights.weights * share], axis=1))
        assert np.allclose(found, blend(every).at(points, both).values, atol=2e-5)

    @pytest.mark.parametrize("border", [0.1, 0.3, 1.0])
    def test_a_shuffled_texture_does_not_repeat_and_keeps_its_mean_and_variance(self, border):
        """What lies a tile away is no more alike than chance; what is cut at black and white costs some of the variance."""
        swatch = made_swatch("a", 5, 32, tile=1.0)
        arrays = jq.pack([swatch], side=32, work=jq.Work(threads=1))
        canvas = jq.Terrain(np.zeros((2, 2)), size=(20, 20)).canvas(640)
        lies = jq.Planar(), jq.Planar(shuffle=jq.Shuffle(size=0.7, border=border, seed=3))
        plain, shuffled = (jq.bake(canvas, [jq.Layer("a", lie)], arrays, filter="nearest") for lie in lies)
        for role in (R.DIFFUSE, R.ROUGHNESS, R.HEIGHT):
            meant = (lambda x: linear(x / 255)) if role is R.DIFFUSE else (lambda x: x)  # as it is mixed
            before, after = (meant(np.asarray(maps[role], float).reshape(640, 640, -1)[..., 0]) for maps in (plain, shuffled))
            assert abs(after.mean() / before.mean() - 1) < (0.02 if border < 1 else 0.03)
            assert abs(after.var() / before.var() - 1) < (0.03 if border < 1 else 0.1)
            power = np.abs(np.fft.fft2(after - after.mean())) ** 2
            alike = np.fft.ifft2(power).real / power.mean()
            assert max(alike[0, 32], alike[32, 0], alike[32, 32]) < 0.1

    def test_bytes_are_the_floats_encoded(self):
        """`blend` and `blend_into` are one blend, and normals are unit within the rounding of 8 bits."""
        rng = np.random.default_rng(3)
        arrays = jq.pack([made_swatch("a", 1), made_swatch("b", 2)], side=16, work=jq.Work(threads=1))
        blend = jq.Blend(arrays, [jq.Layer("a", jq.Triplanar()), jq.Layer("b")])
        points, weights = random_points(rng, 300), random_weights(rng, 300, "ab", 2)
        plain, stored_texels = blend.at(points, weights), room_for(300)
        blend.into(stored_texels, points, weights)
        assert np.abs(np.linalg.norm(plain[jq.MapRole.NORMAL], axis=1) - 1).max() < 1e-5
        assert np.array_equal(
            stored_texels[R.ROUGHNESS][:, 0], np.floor(plain[jq.MapRole.ROUGHNESS] * 255 + 0.5).astype(np.uint8)
        )
        unit = np.linalg.norm(stored_texels[R.NORMAL] / 127.5 - 1, axis=1)
        assert np.abs(unit - 1).max() < np.sqrt(3) / 255

    @pytest.mark.parametrize("columns", [0, 7, 21, 147])
    def test_points_as_a_grid_blend_the_same(self, columns):
        rng = np.random.default_rng(4)
        arrays = jq.pack([made_swatch("a", 1), made_swatch("b", 2)], side=16, work=jq.Work(threads=1))
        blend = jq.Blend(arrays, [jq.Layer("a", jq.Triplanar()), jq.Layer("b")])
        points, weights = random_points(rng, 441), random_weights(rng, 441, "ab", 2)
        assert np.array_equal(blend.at(points, weights).values, blend.at(points, weights, columns=columns).values)

    def test_a_layer_with_no_weight_never_shows_however_tall(self):
        arrays = jq.pack(
            [made_swatch("low", 1, relief=0.01), made_swatch("tall", 2, relief=9)], side=16, work=jq.Work(threads=1)
        )
        blend = jq.Blend(arrays, [jq.Layer("low"), jq.Layer("tall", softness=0)])
        points = random_points(np.random.default_rng(5), 50)
        names = ("low", "tall")
        alone = blend.at(points, kept(names, np.zeros((50, 1)), np.ones((50, 1))))
        beside = kept(names, np.tile([[0, 1]], (50, 1)), np.tile([[1, 0]], (50, 1)))
        assert np.array_equal(blend.at(points, beside).values, alone.values)

    def test_a_weight_of_nothing_between_others_is_no_layer(self):
        arrays = jq.pack([made_swatch(n, seed) for seed, n in enumerate("abc")], side=16, work=jq.Work(threads=1))
        blend = jq.Blend(arrays, [jq.Layer(n) for n in "abc"])
        points = random_points(np.random.default_rng(8), 70)
        with_gap = kept("abc", np.tile([[0, 1, 2]], (70, 1)), np.tile([[0.5, 0, 0.5]], (70, 1)))
        without = kept("abc", np.tile([[0, 2]], (70, 1)), np.tile([[0.5, 0.5]], (70, 1)))
        assert np.array_equal(blend.at(points, with_gap).values, blend.at(points, without).values)

    def test_flat_detail_leaves_the_surface_normal_as_it_is(self):
        """Whatever the plane; and the plane's own tilt does not show."""
        bare = jq.Swatch(name="a", tile=1, relief=1, maps={R.DIFFUSE: made_maps(0)[R.DIFFUSE]})
        points = random_points(np.random.default_rng(9), 200)
        one = jq.PointWeights.all_of("a", 200)
        for layouts in (LAYOUTS, LAYOUTS[:1]):
            blend = jq.Blend(jq.pack([bare], side=4, layouts=layouts, work=jq.Work(threads=1)), [jq.Layer("a", jq.Triplanar())])
            world = blend.at(points, one, normals="world")[R.NORMAL]
            assert np.einsum("nd,nd->n", world, points.normal).min() > 0.9999
            assert blend.at(points, one)[R.NORMAL][:, 2].min() > 0.9999

    def test_the_footprint_chooses_the_mip(self):
        """A footprint of a whole tile reads the mean of the map, one of a texel reads the map."""
        swatch = made_swatch("a", 1, tile=2.0)
        blend = jq.Blend(jq.pack([swatch], side=16, work=jq.Work(threads=1)), [jq.Layer("a")])
        rng = np.random.default_rng(10)
        place, up = rng.uniform(0, 50, (50, 3)), np.tile([0, 1, 0], (50, 1))
        one = jq.PointWeights.all_of("a", 50)
        far = blend.at(jq.Points.of(place, up, footprint=2.0), one)[R.DIFFUSE]
        assert np.abs(far - swatch.maps[R.DIFFUSE].values.mean(axis=(0, 1))).max() < 0.01
        near = blend.at(jq.Points.of(place, up, footprint=2.0 / 16), one)[R.DIFFUSE]
        full = jq.Blend(jq.pack([swatch], side=16, work=jq.Work(threads=1)), [jq.Layer("a")], filter="bilinear")
        assert np.abs(near - full.at(jq.Points.of(place, up, footprint=2.0 / 16), one)[R.DIFFUSE]).max() < 1e-5

    def test_softness_of_one_leaves_the_weights_and_of_nothing_cuts(self):
        swatches = [made_swatch("a", 1), made_swatch("b", 2)]
        arrays = jq.pack(swatches, side=16, work=jq.Work(threads=1))
        points = random_points(np.random.default_rng(11), 100)
        half = kept("ab", np.tile([[0, 1]], (100, 1)), np.tile([[0.4, 0.6]], (100, 1)))
        alone = [
            jq.Blend(arrays, [jq.Layer("a"), jq.Layer("b")]).at(points, kept("ab", np.full((100, 1), n), np.ones((100, 1))))[
                R.DIFFUSE
            ]
            for n in (0, 1)
        ]
        soft = jq.Blend(arrays, [jq.Layer("a", softness=1), jq.Layer("b", softness=1)]).at(points, half)[R.DIFFUSE]
        assert np.abs(soft - (0.4 * alone[0] + 0.6 * alone[1])).max() < 1e-4
        hard = jq.Blend(arrays, [jq.Layer("a", softness=0), jq.Layer("b", softness=0)]).at(points, half)[R.DIFFUSE]
        either = np.minimum(np.abs(hard - alone[0]).max(axis=1), np.abs(hard - alone[1]).max(axis=1))
        assert np.quantile(either, 0.98) < 1e-4

    def test_no_edge_shows_where_a_plane_fades_out(self):
        """Along an arc from level to upright the blend never jumps."""
        arrays = jq.pack([made_swatch("a", 1, tile=40.0)], side=16, work=jq.Work(threads=1))
        angle = np.linspace(0, np.pi / 2, 4000)
        normal = np.column_stack([np.sin(angle) * 0.8, np.cos(angle), np.sin(angle) * 0.6])
        points = jq.Points.of(np.tile([1.3, 2.1, 0.7], (4000, 1)), normal, footprint=0.01)
        one = jq.PointWeights.all_of("a", 4000)
        values = jq.Blend(arrays, [jq.Layer("a", jq.Triplanar(8))]).at(points, one, normals="world").values
        assert np.abs(np.diff(values, axis=0)).max() < 0.01

    @pytest.mark.parametrize("side", [1, 2, 4])
    def test_the_smallest_arrays_work(self, side):
        arrays = jq.pack([made_swatch("a", 1)], side=side, work=jq.Work(threads=1))
        points = random_points(np.random.default_rng(12), 20)
        one = jq.PointWeights.all_of("a", 20)
        assert np.isfinite(jq.Blend(arrays, [jq.Layer("a", jq.Triplanar())]).at(points, one).values).all()

    def test_three_hundred_layers_work(self):
        arrays = jq.pack([made_swatch(str(n), n, side=2) for n in range(300)], side=2, work=jq.Work(threads=1))
        flat = jq.Terrain(np.zeros((2, 2)), size=(8, 8))
        layers = [jq.Layer("0")] + [jq.Layer(str(n), mask=jq.Noise(size=2, seed=n) * 0.3) for n in range(1, 300)]
        by_map = jq.bake(flat.canvas(16), layers, arrays, weights=jq.weigh(flat.canvas(16), layers))
        assert np.ptp(by_map["diffuse"]) > 0
        assert by_map.nbytes == 16 * 16 * 13

    def test_weights_that_do_not_fit_are_refused(self):
        blend = jq.Blend(jq.pack([made_swatch("a")], side=16, work=jq.Work(threads=1)), [jq.Layer("a")])
        points = random_points(np.random.default_rng(6), 4)
        zero, one = np.zeros((4, 1), np.uint8), np.ones((4, 1), np.float32)
        for names, index, weight, words in (
            ("a", zero, one * 0.5, "sum to 1"),
            ("a", zero, one * np.nan, "sum to 1"),
            ("a", zero + 3, one, "layers below 1"),
            ("a", zero[:2], one[:2], "for 4 points"),
            ("b", zero, one, "made for the layers .'b'.; got .'a'.; weigh again"),
        ):
            with pytest.raises(jq.QuiltError, match=words):
                blend.at(points, kept(names, index, weight))
        with pytest.raises(jq.QuiltError, match="uint8 or uint16"):
            jq.PointWeights(("a",), zero.astype(int), one)
        with pytest.raises(jq.QuiltError, match='did you mean "a"'):
            jq.Blend(jq.pack([made_swatch("a")], side=16, work=jq.Work(threads=1)), [jq.Layer("aa")])


@pytest.fixture(scope="module")
def scene():
    v, u = np.mgrid[:33, :41] / 32
    terrain = jq.Terrain(6 * np.sin(4 * u) * np.cos(3 * v), size=(20.0, 16.0))
    arrays = jq.pack([made_swatch("a", 1), made_swatch("b", 2, tile=3.3)], side=16)
    layers = [jq.Layer("a"), jq.Layer("b", jq.Triplanar(), mask=jq.Slope(20, 60, fade=10) | jq.Noise(size=3))]
    return terrain, layers, arrays, jq.weigh(terrain.canvas(64), layers)


class TestBake:
    def test_a_flat_terrain_with_one_layer_gives_back_its_own_texture(self):
        """To the byte, at one texel per texel, over two repeats."""
        swatch = jq.Swatch(name="a", tile=4.0, relief=0.1, maps=made_maps(7, 32))
        arrays = jq.pack([swatch], side=32, work=jq.Work(threads=1))
        flat = jq.Terrain(np.full((3, 3), 1.5), size=(8.0, 8.0))
        maps = jq.bake(flat.canvas(64), [jq.Layer("a")], arrays)
        twice = lambda texels: np.tile(texels, (2, 2, 1))
        assert np.array_equal(maps["diffuse"], twice(swatch.maps[jq.MapRole.DIFFUSE].texels))
        assert np.array_equal(maps["specular"], twice(swatch.maps[jq.MapRole.SPECULAR].texels))
        assert np.array_equal(maps["roughness"][..., None], twice(swatch.maps[jq.MapRole.ROUGHNESS].texels))
        assert np.array_equal(maps["occlusion"][..., None], twice(swatch.maps[jq.MapRole.OCCLUSION].texels))
        packed = arrays.level("normal_roughness_occlusion")[0, ..., :2]
        assert np.array_equal(maps["normal"][..., :2], twice(packed))
        assert np.array_equal(maps["height"][..., None], twice(swatch.maps[jq.MapRole.HEIGHT].texels.astype(np.uint16) * 257))

    @pytest.mark.parametrize("threads", [1, 2])
    @pytest.mark.parametrize("block", [1, 100, 777, 1 << 20])
    @pytest.mark.parametrize("exact", [False, True])
    def test_bytes_do_not_depend_on_threads_or_block(self, scene, threads, block, exact):
        terrain, layers, arrays, weights = scene
        kept = None if exact else weights
        one = jq.bake(terrain.canvas(90), layers, arrays, weights=kept, work=jq.Work(threads=1))
        canvas = terrain.canvas(90)
        other = jq.Baker(canvas, layers, arrays, weights=kept).over(canvas, work=jq.Work(threads=threads), block=block)
        assert all(np.array_equal(one[role], other[role]) for role in ROLES)

    def test_four_quarters_are_the_whole(self, scene):
        terrain, layers, arrays, weights = scene
        whole = jq.bake(terrain.canvas(90), layers, arrays, weights=weights)
        rows, columns = whole.texels
        assert (rows, columns) == (72, 90)
        for top, bottom in ((0, 31), (31, rows)):
            for left, right in ((0, 47), (47, columns)):
                part = jq.bake(
                    terrain.canvas(90).page(rows=(top, bottom), columns=(left, right)), layers, arrays, weights=weights
                )
                for role in ROLES:
                    assert np.array_equal(part[role], whole[role][top:bottom, left:right])

    def test_masks_and_a_fine_weight_map_agree(self, scene):
        """The two ways in which weights reach the blend: nearly everywhere within a few of 255."""
        terrain, layers, arrays, _ = scene
        fine = jq.weigh(terrain.canvas(90), layers)
        by_map = jq.bake(terrain.canvas(90), layers, arrays, weights=fine)["diffuse"].astype(int)
        by_masks = jq.bake(terrain.canvas(90), layers, arrays)["diffuse"].astype(int)
        assert np.percentile(np.abs(by_map - by_masks), 98) <= 4

    def test_a_region_outside_and_other_weights_are_refused(self, scene):
        terrain, layers, arrays, weights = scene
        with pytest.raises(jq.QuiltError, match="rows must be"):
            jq.bake(terrain.canvas(32).page(rows=(0, 99)), layers, arrays)
        with pytest.raises(jq.QuiltError, match="weigh again"):
            jq.bake(terrain.canvas(32), layers[:1], arrays, weights=weights)


def loops_in_lanes():
    """The loops of the blend that run in lanes, with arguments for them. Three rare ones that write what they read do not."""
    scratch, mappings = k.scratch_for(1, 1, 1, 2), np.zeros(1, k.MAPPING)
    frame, lookup, mapped, shares, sharing, _, patches, turns, plane_weight = rows = scratch.mapping
    read, *_, taps = slots = scratch.slots
    spot, _, heights, *_ = samples = scratch.samples
    tallness, _, slot_share, _, weight, scaled, _, channels, sums, steps = mix = scratch.mix
    mips, values = (1, 1), read.values
    yield _mapping_kernels.look_up, (False, False, frame, lookup)
    yield _mapping_kernels.map_flat, (0, 1, mappings, rows)
    yield _mapping_kernels.map_by_uv, (0, mappings, rows)
    yield _mapping_kernels.refine_plane, (0, 1, False, mappings, rows)
    yield _mapping_kernels.bend_gradients, (0, frame, mapped)
    yield _mapping_kernels.limit_sides, (0, mappings, rows)
    yield _plane_kernels.share_planes, (0, 0, 0, mapped, sharing, shares)
    yield _plane_kernels.weigh_planes, (0, 0, shares, values, read.plane_weights)
    yield _lane_kernels.largest, (0, read.plane_weights)
    yield _sample_kernels.plan_taps, (0, 0, 0, 0, mapped, read, taps)
    yield _sample_kernels.locate, (mips, 0, False, (0, 0, 0, 0), 0, mapped, read, spot)
    yield _sample_kernels.locate_any, (mips, 0, 0, (0, 0, 0, 0), 0, mapped, slots, spot)
    yield _sample_set_kernels.choose_patches, (0, 0, mapped, values, patches)
    yield _sample_set_kernels.turn_patch, (0, 0, patches, values, turns)
    yield _sample_set_kernels.turn_plane, (0, 0, turns, mapped, mapped)
    yield _sample_set_kernels.weigh_patch, (0, 0, plane_weight, patches, read.plane_weights)
    yield _sample_kernels.add_heights, (0, 0, 0, 0, samples, values, tallness)
    yield _sample_kernels.add_flat_heights, (0, 0, np.float32(1), spot.shares, heights, values, tallness)
    yield _mix_kernels.weigh, (1, values, mix)
    yield _mix_kernels.weigh_pass, (0, 0, spot.shares, slot_share, weight)
    yield _mix_kernels.mix_colour, (0, 0, 0, samples, weight, channels)
    yield _mix_kernels.mix_data, (0, 0, 0, samples, weight, channels)
    yield _mix_kernels.mix_normals, (0, (0, 0), (0, 0), (0, 1), samples, weight, mapped, sums)
    yield _mix_kernels.mix_diffuse, (0, 0, 0, 0, samples, weight, values, channels)
    yield _mix_kernels.mix_tuned, ((0, True), 0, 0, 0, samples, weight, values, channels)
    yield _mix_kernels.scale_slopes, (0, weight, values, scaled)
    yield _mix_kernels.mix_height, (0, heights, weight, sums)
    yield _mix_kernels.tilt_normals, (False, k.TILT, k.NORMAL, frame, sums)
    fine = np.ones(16, np.float32)
    ways, ends = np.ones(5 * _ground_kernels.LANES, np.float32), np.ones(_ground_kernels.LANES, np.float32)
    bounds = (np.int32(3), np.int32(3), np.float32(0.1), np.float32(0.1))
    yield _ground_kernels._skip_blocks, ((np.float32(1),) * 3, bounds, np.int32(4), fine, ways, ends, ends.copy())
    one = np.ones(_light_rows.SCRATCH, np.float32)
    lit, ways, sums_lit, shining = (one.copy() for _ in range(4))
    white, found = (np.float32(1),) * 3, (np.zeros(_light_rows.LANES, np.int32), np.zeros(_light_rows.LANES, np.int32))
    yield _light_kernels.find_sky, (0, 0, 0, lit, *found)
    yield _light_kernels.fill_base, (lit,)
    yield _light_kernels.shine, (white, lit, ways, sums_lit)
    yield _light_kernels.shine_on_coat, (white, lit, ways, sums_lit)
    yield _light_kernels.cover, (lit, sums_lit, shining)
    yield _mix_kernels.quantise, (np.ones((k.OUTPUTS, 3), np.float32), sums, steps)


def asm_of(loop, values):
    """The assembly of a kernel that does nothing but run a loop."""

    def alone(*values):
        loop(*values)

    built = numba.njit(fastmath=_FAST, **{**_KERNEL, "cache": False})(alone)
    built(*values)
    return next(iter(built.inspect_asm().values()))


@pytest.mark.skipif(platform.machine() != "x86_64", reason="looks for the registers of x86-64")
def test_the_loops_that_should_run_in_vector_lanes_do():
    """Without them the blend is several times slower and nothing else would show it."""
    for loop, values in loops_in_lanes():
        code = asm_of(loop, values)
        name = loop.py_func.__name__
        assert re.search(r"\tv?(?:mulps|addps|maxps|fmadd\w+ps|pmaxsd)\t", code), name
        wide = re.search(r"\tv?(?:pmovsxdq|psllvq|cvtqq2ps)\t", code)
        gathers = loop is _ground_kernels._skip_blocks
        assert not wide or gathers, f"{name} works whole numbers of 64 bits out"
