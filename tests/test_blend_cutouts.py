"""Cut-outs: what is not there is not seen, stops no light, and colours nothing beside it."""

import numpy as np
import pytest

import jagged_quilt as jq
from conftest import jquilt
from jagged_quilt.images import read_image, write_image
from jagged_quilt.surfaces.sight import ShadowMap

R = jq.MapRole
UPRIGHT = np.array([[1, 0, 0, 0], [0, 0, -1, 0], [0, 1, 0, 0], [0, 0, 0, 1.0]])  # it faces south


def moved(matrix, x=0.0, y=0.0, z=0.0):
    return np.array(matrix, float) + np.array([[0, 0, 0, x], [0, 0, 0, y], [0, 0, 0, z], [0] * 4])


CAMERA = jq.Camera(position=(0, 0, 5), target=(0, 0, 0), view_angle=30)


def leaf(name="leaf", side=32):
    """Green where it is there (the left half of each tile), and magenta where it is not."""
    colour, there = np.zeros((side, side, 3), np.uint8), np.zeros((side, side, 1), np.uint8)
    colour[:, : side // 2], colour[:, side // 2 :], there[:, : side // 2] = (0, 160, 0), (255, 0, 255), 255
    maps = {R.DIFFUSE: jq.TextureMap(role=R.DIFFUSE, texels=colour), R.OPACITY: jq.TextureMap(role=R.OPACITY, texels=there)}
    return jq.Swatch(name=name, tile=1.0, relief=0.1, maps=maps)


@pytest.fixture(scope="module")
def arrays():
    return jq.pack([leaf(), jq.plain_swatch("wall", diffuse=(0.5, 0.1, 0.1))], side=32)


def fence(arrays, *things, cut_out=0.5, light=None):
    scene = jq.Scene(arrays, lights=[light or jq.Sun(bearing=180, height=10)], cut_out=cut_out, filter="bilinear")
    for matrix, layer in things:
        scene.add(jq.shapes.plane((2, 2)).placed(matrix), [layer])
    return scene


BEHIND = moved(UPRIGHT, z=-1.5)
LEAF, WALL = (UPRIGHT, jq.Layer("leaf", jq.Uv(metres=2))), (BEHIND, jq.Layer("wall"))


class TestPacking:
    def test_what_is_cut_out_colours_no_texel_and_no_mip(self, arrays):
        for level in range(6):
            colour = arrays.level("diffuse_height", level)[0]
            assert (colour[..., [0, 2]] == 0).all()
            assert (colour[..., 1] == 160).all()
        assert arrays.level("opacity", 3)[0, 0, :, 0].tolist() == [128, 128, 0, 0]  # as much as it covers of the full size

    def test_only_swatches_that_say_so_have_opacity(self, arrays):
        assert [facts.optional for facts in arrays.facts] == [("opacity",), ()]
        plain = jq.plain_swatch("x", diffuse=0.5)
        assert "opacity" not in [layout.name for layout in jq.pack([plain], side=4).layouts]
        blend = jq.Blend(arrays, [jq.Layer("wall")])
        assert R.OPACITY not in blend.roles
        assert R.OPACITY in jq.Blend(arrays, [jq.Layer("wall"), jq.Layer("leaf")]).roles

    def test_an_alpha_that_nobody_mentions_cuts_nothing_out(self, tmp_path):
        rgba = np.full((8, 8, 4), 90, np.uint8)
        rgba[:, 4:, 3] = 0
        write_image(tmp_path / "s" / "s_diffuse.png", rgba)
        source = jq.SwatchSource(name="s", folder=tmp_path / "s", tile=1.0)
        assert R.OPACITY not in source.read().roles
        jq.pack_files([source], tmp_path / "a", side=8)
        assert "opacity" not in [layout.name for layout in jq.open_arrays(tmp_path / "a").layouts]
        rule = jq.MapRule(role=R.OPACITY, file="s_diffuse.png", channel="a")
        said = jq.SwatchSource(name="s", folder=tmp_path / "s", tile=1.0, rules=[rule])
        assert jq.pack([said], side=8).level("opacity", 0)[0, 0, :, 0].tolist() == [90] * 4 + [0] * 4


class TestViews:
    def test_through_holes_one_sees_what_stands_behind(self, arrays):
        every = ([LEAF, WALL], [LEAF], [WALL])
        both, front, back = (fence(arrays, *things).draw(CAMERA, width=96, height=96) for things in every)
        gone = fence(arrays, LEAF, cut_out=0).draw(CAMERA, width=96, height=96)
        sky = fence(arrays, (moved(UPRIGHT, z=99), LEAF[1])).draw(CAMERA, width=96, height=96)
        shown = (front != sky).any(axis=2)
        assert 0.4 < shown.mean() / (gone != sky).any(axis=2).mean() < 0.6
        inner = shown & np.roll(shown, 1, 1) & np.roll(shown, -1, 1)
        assert np.array_equal(both[inner], front[inner])
        outer = ~(shown | np.roll(shown, 1, 1) | np.roll(shown, -1, 1))
        assert (np.abs(both[outer].astype(int) - back[outer]).max(axis=1) <= 3).mean() > 0.7  # where no shadow falls
        assert not (front[..., 0].astype(int) > front[..., 1].astype(int) + 60).any()  # nothing magenta

    @pytest.mark.parametrize("light", [jq.Sun(bearing=180, height=1), jq.PointLight(position=(0, 0, 9))])
    def test_light_comes_through_holes(self, arrays, light):
        at = np.linspace(-0.8, 0.8, 20)
        places = np.stack([*np.meshgrid(at, at), np.full((20, 20), -1.45)], axis=-1).reshape(-1, 3)
        points = jq.Points.of(places, np.tile([0, 0, 1], (400, 1)))
        free = {cut: fence(arrays, LEAF, WALL, cut_out=cut, light=light).shadows(light)(points) for cut in (0, 0.5)}
        assert free[0].mean() < 0.1
        assert 0.35 < free[0.5].mean() < 0.65

    def test_many_sheets_are_gone_through(self, arrays):
        sheets = [(moved(UPRIGHT, z=-0.02 * n), LEAF[1]) for n in range(4)]
        one, many = (fence(arrays, *some).draw(CAMERA, width=48, height=48) for some in (sheets[:1], sheets))
        assert (np.abs(one.astype(int) - many).max(axis=2) < 40).mean() > 0.8

    def test_a_hole_in_the_ground_is_dark_and_shows_what_stands_in_it(self, arrays):
        ground = jq.Terrain(np.zeros((3, 3)), size=(8, 8))
        scene = jq.Scene(arrays, filter="bilinear").add(ground, [jq.Layer("leaf", jq.Planar(scale=8))])
        from_above = jq.Camera(position=(4, 9, 4.01), target=(4, 0, 4), view_angle=30)
        picture = scene.draw(from_above, width=64, height=64).astype(int)
        assert (picture[:, 40:].max(axis=2) < 90).all()
        assert (picture[:, :24, 1] > picture[:, :24, 0] + 30).all()
        sunk = jq.shapes.plane((8, 8)).placed(moved(np.eye(4), x=4, y=-1, z=4))
        picture = scene.add(sunk, [jq.Layer("wall")]).draw(from_above, width=64, height=64).astype(int)
        assert (picture[:, 40:, 0] > picture[:, 40:, 1] + 10).all()

    def test_what_is_farther_than_all_meshes_lies_in_no_shadow_of_nothing(self):
        """Where the light's map of meshes holds nothing, no place is behind it."""
        plane = jq.shapes.plane((2, 2))
        below = jq.Points.of([[-0.5, -50, 3.0], [3.0, -50, -0.5], [0.2, -50, 0.1]], [[0, 1, 0]] * 3)
        both = ShadowMap([plane, plane.placed(moved(np.eye(4), x=4, z=4))], np.array([0, 1.0, 0]))
        assert both.free(below).tolist() == [1, 1, 0]


class TestBakes:
    def test_opacity_is_a_map_and_holes_are_filled_from_around(self, arrays):
        made = jq.bake(
            jq.UvCanvas(jq.shapes.plane(), 64, padding=64), [jq.Layer("leaf", jq.Uv(metres=1))], arrays, filter="bilinear"
        )
        assert set(np.unique(made["opacity"])) >= {0, 255}
        assert (made["diffuse"][..., 0] == 0).all()
        ground = jq.Terrain(np.zeros((3, 3)), size=(2, 2))
        level = jq.bake(ground.canvas(64), [jq.Layer("wall"), jq.Layer("leaf", mask=jq.Constant(1.0))], arrays)
        assert level["opacity"].mean() == pytest.approx(127, abs=6)

    def test_a_quilt_bakes_and_shows_it(self, project):
        path = project / "job.quilt.toml"
        alpha = np.zeros((16, 16), np.uint8)
        alpha[:8] = 255
        write_image(project / "salt" / "salt_opacity.png", alpha)
        path.write_text(path.read_text() + "[view]\ncut_out = 0.4\n")
        assert jquilt("bake", path)[0] == 0
        assert read_image(project / "out" / "bake" / "opacity.png").min() < 255
        assert jquilt("show", path, "view", "maps")[0] == 0
        path.write_text(path.read_text().replace("cut_out = 0.4", "cut_out = 4.0"))
        assert "cut_out must be from 0 to 1" in jquilt("show", path, "view")[2]
