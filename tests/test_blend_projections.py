"""Projections: no seam, no stretch beyond what they must, text that reads, normals in the right space."""

import numpy as np
import pytest

import jagged_quilt as jq
from conftest import made_swatch
from jagged_quilt.blend.samples import samples_saved
from jagged_quilt.foundation.canvas import Region
from jagged_quilt.show.labelled_grid import grid_arrays
from jagged_quilt.surfaces.picture_canvas import PictureCanvas

R = jq.MapRole
ONE = lambda count, name="a": jq.PointWeights.all_of(name, count)


def blended(arrays, projection, points, role=R.DIFFUSE, **options):
    """What one layer of the first swatch gives at points."""
    blend = jq.Blend(arrays, [jq.Layer(arrays.names[0], projection)], **options)
    return blend.at(points, ONE(len(points), *blend.plan.names), normals="world")[role]


def survey(projection, points, tile=4.0):
    arrays = grid_arrays(tile=tile, side=16)
    return jq.Blend(arrays, [jq.Layer("grid", projection)]).survey(points, ONE(len(points), "grid"))


def tilted(x, y):
    """Arrays whose one swatch has everywhere the same detail normal."""
    z = np.sqrt(1 - x * x - y * y)
    texel = np.rint(np.array([[[x, y, z]]]) * 32767.5 + 32767.5).astype(np.uint16)
    maps = {
        R.NORMAL: jq.TextureMap(role=R.NORMAL, texels=texel),
        R.DIFFUSE: jq.TextureMap(role=R.DIFFUSE, texels=np.full((1, 1, 3), 128, np.uint8)),
    }
    arrays = jq.pack([jq.Swatch(name="t", tile=1.0, relief=0.1, maps=maps)], side=1, work=jq.Work(threads=1))
    stored = arrays.level("normal_roughness_occlusion")[0, 0, 0, :2] / 127.5 - 1  # what eight bits made of it
    return arrays, np.array([*stored, np.sqrt(1 - stored @ stored)])


def shaded(normals):
    """One fixed light, on a scale of 255."""
    light = np.array([0.48, 0.6, 0.64])
    return 255 * np.clip(normals @ light, 0, 1)


class TestWrap:
    @pytest.mark.parametrize("kind", [jq.Spherical, jq.Cylindrical])
    @pytest.mark.parametrize("far", [1.8, 3.0, 12.0])
    def test_where_u_begins_again_nothing_shows(self, kind, far):
        """Eight tiles go around, so the side with the wrap must look as the side without, at three zooms; and the columns at
        the wrap differ no more than others do."""
        ball = jq.shapes.sphere(1.0, around=256, down=128)
        tile = 2 * np.pi / 8.2  # made to fit: eight whole tiles
        layers = [jq.Layer("grid", kind(filter="anisotropic", offset=(0.31 * tile, 0.0)))]
        scene = jq.Scene(grid_arrays(tile=tile, side=256)).add(ball, layers)
        seen = []
        for side in (1, -1):
            camera = jq.Camera(position=(0.0, 0.0, side * far), target=(0.0, 0.0, 0.0), view_angle=40)
            rows = 96
            canvas = scene.canvas(camera, rows, rows)
            picture = np.zeros((rows * rows, 3), np.float32)
            for piece in canvas.block(Region.whole(canvas.texels)).pieces:
                picture[piece.where.each] = scene.parts[piece.part].shade.at(piece.points)[R.DIFFUSE]
            seen.append(picture.reshape(rows, rows, 3))
        assert np.abs(seen[0] - seen[1]).max() < 0.03
        middle = seen[1][40:56]
        steps = np.abs(np.diff(middle, axis=1)).mean(axis=(0, 2))
        assert steps[47] <= np.delete(steps, 47).max() + 1e-6
        assert seen[0].std() > 0.05

    def test_mips_do_not_jump_there(self):
        turn = np.linspace(-np.pi + 1e-4, np.pi - 1e-4, 2001)
        where = np.stack([np.sin(turn), np.zeros_like(turn), np.cos(turn)], axis=1)
        points = jq.Points.of(where, where, footprint=0.2)
        for projection in (jq.Spherical(), jq.Cylindrical(), jq.Spherical(axis=(0, 0.1, 1), radius=2), jq.Polar(spiral=30)):
            assert np.abs(np.diff(survey(projection, points, tile=1.0).mip)).max() < 0.05

    @pytest.mark.parametrize("wrap", ["repeat", "clamp", "mirror"])
    def test_wrap_modes_beyond_the_first_tile(self, wrap):
        arrays = jq.pack([made_swatch("a", 3, tile=2.0)], side=16, work=jq.Work(threads=1))
        x = np.linspace(-4.9, 4.9, 99)
        at = lambda places: jq.Points.of(np.column_stack([places, 0 * places, 0 * places + 0.7]), np.tile([0, 1, 0], (99, 1)))
        inside = {
            "repeat": x % 2,
            "clamp": np.clip(x, 2 / 32, 2 - 2 / 32),
            "mirror": np.where(x // 2 % 2 == 0, x % 2, 2 - x % 2),
        }[wrap]
        one = blended(arrays, jq.Planar(wrap=wrap), at(x), filter="bilinear")
        assert np.allclose(one, blended(arrays, jq.Planar(wrap=wrap), at(inside), filter="bilinear"), atol=2e-5)

    def test_a_pattern_that_would_not_meet_is_refused(self):
        with pytest.raises(jq.QuiltError, match="would not meet where u wraps"):
            jq.Spherical(rotation=30)
        assert jq.Cylindrical(radius=1.0).repeats(2.0) == 3
        assert jq.Cylindrical(radius=1.0, wrap="mirror").repeats(2.0) == 4


class TestSides:
    @pytest.mark.parametrize("projection", [jq.Triplanar(16), jq.Box(), jq.Planar("x"), jq.Planar("z"), jq.Planar((1, 0, 1))])
    def test_text_is_never_mirrored_nor_upside_down(self, projection):
        """u grows to the right and v downwards, as seen from outside, on every side."""
        ways = {jq.Planar("x"): ["x"], jq.Planar("z"): ["z"], jq.Planar((1, 0, 1)): ["xz"]}.get(projection, ["x", "z"])
        for way in ways:
            for sign in (1, -1):
                out = sign * np.array([("x" in way), 0, ("z" in way)], float)
                out /= np.linalg.norm(out)
                right = np.cross([0, 1, 0], out)
                here = np.array([3.0, 4.0, 5.0])
                points = jq.Points.of([here, here + 0.1 * right, here - [0, 0.1, 0]], np.tile(out, (3, 1)))
                place = survey(projection, points).tile_uv
                assert np.allclose((place[1] - place[0]) * 4, [0.1, 0], atol=1e-4)
                assert np.allclose((place[2] - place[0]) * 4, [0, 0.1], atol=1e-4)

    def test_moving_turning_and_scaling(self):
        """Seen from above, with u to the east and v to the south."""
        points = jq.Points.of([[0, 0, 0], [1, 0, 0]], np.tile([0, 1, 0], (2, 1)))
        at = lambda **lie: survey(jq.Planar(**lie), points).tile_uv * 4
        assert np.allclose(at(offset=(0.25, 0.5)), [[-0.25, -0.5], [0.75, -0.5]], atol=1e-5)
        assert np.allclose(at(rotation=90)[1], [0, 1], atol=1e-5)  # turned counter-clockwise: its u runs north
        assert np.allclose(at(mirror="u")[1], [-1, 0], atol=1e-5)
        assert np.allclose(at(scale=(2, 1))[1], [0.5, 0], atol=1e-5)

    def test_object_space_goes_with_the_object(self):
        """Turned and moved the same places have the same texels; scaled the tile stays true in metres."""
        arrays = jq.pack([made_swatch("a", 1, tile=0.7)], side=16, work=jq.Work(threads=1))
        ball = jq.shapes.sphere(1.0, around=24, down=12)
        turn = np.eye(4)
        turn[:3, :3] = [[0, 0, 1], [1, 0, 0], [0, 1, 0]]
        turn[:3, 3] = [3, -2, 5]
        moved = ball.placed(turn)
        lie = jq.Triplanar(4, space="object")
        plain = blended(arrays, lie, ball.points(), frame=ball.parts[0].frame)
        assert np.allclose(blended(arrays, lie, moved.points(), frame=moved.parts[0].frame), plain, atol=2e-3)
        assert not np.allclose(blended(arrays, jq.Triplanar(4), moved.points()), plain, atol=0.05)
        large = jq.shapes.plane((1, 1)).placed(np.diag([4.0, 4, 4, 1]))
        layer = [jq.Layer("a", jq.Planar(space="object"))]
        facts = jq.Blend(arrays, layer, frame=large.parts[0].frame).survey(large.points(), ONE(4))
        assert np.allclose(facts.density, 16 / 0.7, rtol=1e-4)
        with pytest.raises(jq.QuiltError, match="must not flatten"):
            jq.Blend(arrays, layer, frame=np.diag([1.0, 0, 1, 1]))

    def test_triplanar_only_where_it_is_needed_reads_less(self):
        """And gives the same where it is at work."""
        rng = np.random.default_rng(2)
        normal = rng.normal(size=(4000, 3)) + np.array([0, 1.2, 0])
        points = jq.Points.of(rng.uniform(0, 40, (4000, 3)), normal)
        steep = np.degrees(np.arccos(np.abs(points.normal[:, 1])))
        arrays = jq.pack([made_swatch("a", 1)], side=16, work=jq.Work(threads=1))
        always, limited = jq.Triplanar(4), jq.Triplanar(4, above=35, above_fade=10)
        reads = [survey(each, points).reads for each in (always, limited)]
        assert reads[1].sum() < 0.95 * reads[0].sum()
        assert (reads[1][steep < 35] == 1).all()
        assert np.allclose(
            blended(arrays, always, points)[steep > 45.1], blended(arrays, limited, points)[steep > 45.1], atol=1e-5
        )
        near = jq.Triplanar(4, eye=(20, 20, 20), beyond=15)
        away = np.linalg.norm(points.position - [20, 20, 20], axis=1)
        assert (survey(near, points).reads[away < 15] == 1).all()
        assert np.array_equal(survey(near, points).reads[away > 20.1], reads[0][away > 20.1])
        saved = samples_saved(arrays, [jq.Layer("a", limited)], points, ONE(4000))
        assert saved == pytest.approx(1 - reads[1].sum() / reads[0].sum())
        with pytest.raises(jq.QuiltError, match="say where it stands"):
            jq.Triplanar(4, beyond=3)

    def test_a_warp_bends_and_its_slopes_follow(self):
        rng = np.random.default_rng(3)
        points = jq.Points.of(rng.uniform(0, 9, (300, 3)) * [1, 0, 1], np.tile([0, 1, 0], (300, 1)))
        bent = jq.Planar(warp=jq.Warp(by=0.4, size=3.0))
        place = survey(bent, points).tile_uv
        away = np.linalg.norm((place - survey(jq.Planar(), points).tile_uv) * 4, axis=1)
        assert 0.1 < away.max() <= 0.4 * 2**0.5
        step = np.float32(1e-2)
        there = jq.Points.of(points.position + np.array([step, 0, 0]), points.normal)
        moved = np.linalg.norm((survey(bent, there).tile_uv - place) * 4 / step, axis=1)
        facts = jq.Blend(grid_arrays(4.0, 16), [jq.Layer("grid", bent)])
        assert 1.05 < facts.survey(points, ONE(300, "grid")).stretch.max() < 3
        assert 0.5 < moved.min() < 1 < moved.max() < 2


class TestNormals:
    def test_any_turn_mirror_and_shear_gives_the_analytic_normal(self):
        """64 orientations, each plain, mirrored and sheared, under one light, within 1 of 255."""
        rng = np.random.default_rng(7)
        arrays, (x, y, z) = tilted(0.42, -0.31)
        flat = jq.shapes.plane((2, 2), cells=3)
        for number in range(64):
            turn = np.linalg.qr(rng.normal(size=(3, 3)))[0]
            turn *= np.sign(np.linalg.det(turn))
            matrix = np.eye(4)
            matrix[:3, :3] = turn
            for shear in (np.eye(2), np.diag([-1.0, 1.0]), np.array([[1.0, 0.6], [0.2, 1.3]])):
                mesh = jq.Mesh.of(flat.position, flat.triangles, uv=flat.uv @ shear.T, normal=flat.normal).placed(matrix)
                found = blended(arrays, jq.Uv(), mesh.points(), R.NORMAL)
                # height rises by -x / z along u and y / z along v; u and v grow along the plane as the shear says
                slope = np.array([-x / z, y / z]) @ shear
                wanted = turn @ np.array([-slope[0], 1.0, -slope[1]])
                wanted /= np.linalg.norm(wanted)
                assert np.abs(shaded(found) - shaded(wanted)).max() <= 1, (number, shear)
                tangent = jq.Blend(arrays, [jq.Layer("t", jq.Uv())]).at(mesh.points(), ONE(len(mesh.position), "t"))[R.NORMAL]
                p = mesh.points()
                across = np.cross(p.normal, p.tangent[:, :3]) * p.tangent[:, 3:]
                back = tangent[:, :1] * p.tangent[:, :3] + tangent[:, 1:2] * across + tangent[:, 2:] * p.normal
                assert np.abs(shaded(back) - shaded(wanted)).max() <= 1

    def test_a_stretched_texture_is_less_steep_and_the_cheap_way_is_not(self):
        """On a slope of 60 degrees a planar texture lies twice as long, so its slope down the hill is half."""
        arrays, (x, _, z) = tilted(0.0, 0.5)
        y = 0.5
        slope = np.radians(60)
        points = jq.Points.of([[0, 0, 0]], [[0, np.cos(slope), np.sin(slope)]])
        lean = lambda detail: np.degrees(
            np.arccos(np.clip(blended(arrays, jq.Planar(detail=detail), points, R.NORMAL)[0] @ points.normal[0], -1, 1))
        )
        assert lean("cheap") == pytest.approx(np.degrees(np.arctan(y / z)), abs=0.3)
        assert lean("exact") == pytest.approx(np.degrees(np.arctan(y / z / 2)), abs=0.3)
        assert x == pytest.approx(0, abs=0.01)

    def test_reorientation_puts_detail_on_a_base_map(self):
        base = np.array([[0.3, 0.2, np.sqrt(1 - 0.13)], [0.0, 0.0, 1.0]])
        flat, bent = np.array([[0.0, 0, 1]] * 2), np.array([[0.1, -0.4, np.sqrt(1 - 0.17)]] * 2)
        assert np.allclose(jq.convert.reoriented(base, flat), base, atol=1e-6)
        assert np.allclose(jq.convert.reoriented(base, bent)[1], bent[1], atol=1e-6)
        turned = jq.convert.reoriented(base, bent)
        assert np.allclose(np.linalg.norm(turned, axis=1), 1, atol=1e-6)
        assert np.allclose(np.sum(turned * base, axis=1), bent[:, 2], atol=1e-6)  # the angle between them stays


class TestFilters:
    def test_anisotropy_keeps_detail_at_a_low_angle(self):
        """Stripes along the view stay stripes; trilinear by the longer side makes mud of them."""
        stripes = np.zeros((64, 64, 3), np.uint8)
        stripes[:, ::2] = 255
        maps = {R.DIFFUSE: jq.TextureMap(role=R.DIFFUSE, texels=np.repeat(np.repeat(stripes[:32, :32], 2, 0), 2, 1))}
        arrays = jq.pack([jq.Swatch(name="s", tile=1.0, relief=0.1, maps=maps)], side=64, work=jq.Work(threads=1))
        rng = np.random.default_rng(0)
        points = jq.Points.of(
            rng.uniform(0, 9, (500, 3)), np.tile([0, 1, 0], (500, 1)), footprint=np.tile([1 / 64, 12 / 64], (500, 1))
        )
        spread = {name: blended(arrays, jq.Planar(filter=name), points)[:, 0].std() for name in ("anisotropic", "trilinear")}
        assert spread["anisotropic"] > 0.35
        assert spread["trilinear"] < 0.05

    def test_nearest_gives_texels_as_they_are(self):
        arrays = jq.pack([made_swatch("a", 1, tile=1.0)], side=16, work=jq.Work(threads=1))
        rng = np.random.default_rng(1)
        points = jq.Points.of(rng.uniform(0, 5, (200, 3)), np.tile([0, 1, 0], (200, 1)))
        seen = blended(arrays, jq.Planar(filter="nearest"), points)
        texels = made_swatch("a", 1).maps[R.DIFFUSE].values
        column, row = (np.floor(points.position[:, axis] * 16).astype(int) % 16 for axis in (0, 2))
        assert np.abs(seen - texels[row, column]).max() < 2e-3

    @pytest.mark.parametrize(
        ("make", "words"),
        [
            (lambda: jq.Planar("w"), 'no axis is called "w"'),
            (lambda: jq.Planar((0, 0, 0)), "axis must have a length"),
            (lambda: jq.Planar(scale=(0, 1)), "scale must be above 0"),
            (lambda: jq.Planar(scale=(2, 1, 1)), "scale must be two numbers"),
            (lambda: jq.Triplanar(0.5), "sharpness must be from 1 to 64"),
            (lambda: jq.Triplanar(4, space="screen"), 'no space is called "screen"'),
            (lambda: jq.Box(filter="blurry"), 'no filter is called "blurry"'),
            (lambda: jq.Uv(wrap="fold"), 'no wrap mode is called "fold"'),
            (lambda: jq.Uv(anisotropy=32), "anisotropy must be a whole number from 1 to 16"),
            (lambda: jq.Spherical(radius=-1), "radius must be above 0 m"),
            (lambda: jq.Warp(by=0, size=1), "warp by must be above 0 m"),
        ],
    )
    def test_what_cannot_be_is_refused(self, make, words):
        with pytest.raises(jq.QuiltError, match=words):
            make()

    def test_points_without_uv_are_refused(self):
        arrays = jq.pack([made_swatch("a")], side=16, work=jq.Work(threads=1))
        with pytest.raises(jq.QuiltError, match="these points have none"):
            blended(arrays, jq.Uv(), jq.Points.of([[0, 0, 0]], [[0, 1, 0]]))


def test_a_mesh_hides_and_shadows_the_ground():
    flat = jq.Terrain(np.zeros((3, 3)), size=(20.0, 20.0))
    box = jq.shapes.box((2, 2, 2)).placed([[1, 0, 0, 10], [0, 1, 0, 1], [0, 0, 1, 10], [0, 0, 0, 1]])
    camera = jq.Camera(position=(10.0, 9.0, 22.0), target=(10.0, 0.5, 10.0))
    arrays = jq.pack([made_swatch("a", 1), made_swatch("b", 2)], side=16, work=jq.Work(threads=1))
    scene = jq.Scene(arrays, lights=[jq.Sun(90, 40)]).add(flat, [jq.Layer("a")])
    bare = scene.draw(camera, width=160, height=100)
    both = scene.add(box, [jq.Layer("b", jq.Box())]).draw(camera, width=160, height=100)
    changed = np.abs(bare.astype(int) - both).max(axis=2) > 8
    assert 0.02 < changed.mean() < 0.2
    west = changed[:, :70].sum(), changed[:, 90:].sum()
    assert west[0] > 2 * west[1]  # the sun stands in the east


class TestSurvey:
    """What is told of textures is what they do."""

    def test_density_mip_and_stretch_of_a_slope(self):
        """16 texels over 4 m; on a slope of 60 degrees half as many along the hill."""
        points = jq.Points.of([[1, 2, 3]], [[0, 0.5, 3**0.5 / 2]], footprint=0.5)
        facts = survey(jq.Planar(), points)
        assert facts.stretch[0] == pytest.approx(2, rel=1e-4)
        assert facts.density[0] == pytest.approx(4 * 0.5**0.5, rel=1e-4)
        assert facts.mip[0] == pytest.approx(np.log2(0.5 * 4), abs=1e-3)  # across the hill a texel covers half a metre
        tri = survey(jq.Triplanar(64), points)
        assert (tri.plane[0], tri.stretch[0]) == (2, pytest.approx(2 / 3**0.5, rel=1e-4))
        assert tri.share[0] == pytest.approx(1, abs=1e-3)

    @pytest.mark.parametrize("kind", [jq.Spherical, jq.Cylindrical])
    def test_around_an_axis_the_tile_is_true_where_the_radius_is(self, kind):
        ball = jq.shapes.sphere(2.0, around=64, down=32).points()
        level = np.abs(ball.position[:, 1]) < 0.01
        facts = survey(kind(radius=2.0), ball, tile=2 * np.pi * 2 / 6)
        assert np.allclose(facts.stretch[level], 1, atol=1e-3)
        assert np.allclose(facts.density[level], 16 / (2 * np.pi * 2 / 6), rtol=1e-3)
        away = np.abs(np.abs(ball.position[:, 1]) - 1.0) < 0.02
        slope = np.sqrt(1 - (ball.position[away, 1] / 2) ** 2)  # of the circle there to the equator
        wanted = 1 / slope if kind is jq.Spherical else 1 / slope**2
        assert np.allclose(facts.stretch[away], wanted, rtol=0.02)

    @pytest.mark.parametrize("spiral", [0.0, 40.0])
    def test_around_a_point_it_is_true_at_the_radius_and_repeats_whole(self, spiral):
        turn, away = np.meshgrid(np.linspace(-3.1, 3.1, 50), [0.5, 1.0, 2.0, 4.0])
        where = np.stack([np.sin(turn) * away + 3, 0 * turn, np.cos(turn) * away - 5], axis=-1).reshape(-1, 3)
        points, tile = (
            jq.Points.of(where, np.tile([0, 1, 0], (200, 1)), footprint=1e-3),
            2 * np.pi * 2 / 7.2,
        )  # made to fit: seven
        lie = jq.Polar(centre=(3, 0, -5), radius=2.0, spiral=spiral)
        assert lie.repeats(tile) == 7
        facts = survey(lie, points, tile=tile)
        if not spiral:
            longer = np.maximum(2 * 7.2 / 7 / away, away / 2 * 7 / 7.2).ravel()
            assert np.allclose(facts.stretch, np.maximum(longer, 1), rtol=0.06)
        arrays = grid_arrays(tile=tile, side=64)
        once = blended(arrays, lie, points)
        by = np.radians(360 / 7)
        turned = points.at(
            np.stack([np.sin(turn + by) * away + 3, 0 * turn, np.cos(turn + by) * away - 5], axis=-1).reshape(-1, 3)
        )
        assert np.abs(once - blended(arrays, lie, turned)).max() < 0.01

    def test_the_largest_layer_is_reported_and_all_reads_are_counted(self):
        arrays = jq.pack([made_swatch("a", 1, tile=1.0), made_swatch("b", 2, tile=4.0)], side=16, work=jq.Work(threads=1))
        blend = jq.Blend(arrays, [jq.Layer("a"), jq.Layer("b", jq.Triplanar(4))])
        points = jq.Points.of(np.zeros((2, 3)), [[0, 1, 0], [1, 1, 1]])
        weights = jq.PointWeights(("a", "b"), np.array([[0, 1]] * 2, np.uint8), np.array([[0.7, 0.3], [0.2, 0.8]], np.float32))
        facts = blend.survey(points, weights)
        assert np.allclose(facts.reads, [2, 4])
        assert facts.density[0] == pytest.approx(16)
        assert facts.density[1] < 5


class TestCamera:
    def test_pixels_see_the_mesh_that_lies_on_their_rays(self):
        """Places on the rays, the nearest side, and what a pixel covers there."""
        ball = jq.shapes.sphere(1.0, around=128, down=64)
        camera = jq.Camera(position=(0.0, 0.5, 4.0), target=(0.0, 0.0, 0.0))
        canvas = PictureCanvas(camera, [ball], 90, 120)
        block = canvas.block(Region.whole(canvas.texels))
        piece, rays = block.pieces[0], block.rays
        points, met, which = piece.points, piece.where.each, piece.triangles
        way = points.position - np.array(camera.position, np.float32)
        far = np.linalg.norm(way, axis=1)
        assert np.einsum("nd,nd->n", way / far[:, None], rays[met]).min() > 1 - 1e-6
        assert far.max() < 4.1
        assert (np.einsum("nd,nd->n", points.normal, rays[met]) < 0.3).all()
        assert len(which) == len(met) == len(points)
        rows = canvas.block(Region(30, 60, 0, 120)).pieces[0].where.each
        assert np.array_equal(rows, met[(met >= 30 * 120) & (met < 60 * 120)])
        middle = np.argmin(np.abs(rays[met] - rays[met].mean(axis=0)).sum(axis=1))
        assert points.footprint[middle, 0] == pytest.approx(far[middle] * 2 * np.tan(np.radians(20)) / 90, rel=0.03)
        steps = np.linalg.norm(points.steps, axis=2)
        assert np.all(steps.max(axis=1) >= points.footprint[:, 0] * 0.98)
        facing = np.abs(np.einsum("nd,nd->n", points.normal, rays[met]))
        low = (facing > 0.15) & (facing < 0.3)
        sides = np.linalg.svd(points.steps[low], compute_uv=False)
        assert np.median(sides[:, 0] / sides[:, 1]) > 2.5  # longer along the view

    def test_a_mesh_behind_the_camera_is_not_seen(self):
        camera = jq.Camera(position=(0.0, 0.0, 4.0), target=(0.0, 0.0, 8.0))
        canvas = PictureCanvas(camera, [jq.shapes.sphere(1.0)], 20, 20)
        assert canvas.block(Region.whole(canvas.texels)).pieces == ()


def test_points_are_cut_and_joined_with_all_they_hold():
    points = jq.shapes.sphere(1.0, around=8, down=4).points()
    part = points[3:9]
    assert np.array_equal(part.uv_gradient, points.uv_gradient[3:9])
    whole = jq.Points.joined([part, points[:3]])
    assert len(whole) == 9
    assert np.array_equal(whole.uv_gradient[6:], points.uv_gradient[:3])
    assert whole.steps is None
    assert part.true_steps().shape == (6, 2, 3)
    assert np.allclose(np.linalg.norm(part.true_steps(), axis=2), part.footprint, rtol=1e-5)


def test_a_surface_seen_from_behind_keeps_its_bitangent():
    """Its normal turns to the eye, and the handedness with it, so that v still grows the same way."""
    flat = jq.shapes.plane((2, 2))
    for height in (3.0, -3.0):
        camera = jq.Camera(position=(0.0, height, 2.0), target=(0.0, 0.0, 0.0))
        points = PictureCanvas(camera, [flat], 12, 12).block(Region(0, 12, 0, 12)).pieces[0].points
        assert np.allclose(points.normal, [0, np.sign(height), 0])
        assert np.allclose(np.cross(points.normal, points.tangent[:, :3]) * points.tangent[:, 3:], [0, 0, -1])
