"""Terrains and cameras: heights, normals and footprints in metres, the same by region as whole."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import jagged_quilt as jq
from conftest import QUILT
from jagged_quilt.errors import ImageError, RangeError
from jagged_quilt.foundation.canvas import Region
from jagged_quilt.images import write_image
from jagged_quilt.surfaces.picture_canvas import PictureCanvas


def slope_terrain(east, south, size=(30.0, 20.0)):
    z, x = np.meshgrid(np.linspace(0, size[1], 9), np.linspace(0, size[0], 13), indexing="ij")
    return jq.Terrain(east * x + south * z, size=size)


class TestTerrain:
    @settings(deadline=None)
    @given(st.floats(-3, 3), st.floats(-3, 3))
    def test_a_plane_has_the_normal_and_footprint_of_a_plane(self, east, south):
        """With unlike spacing per axis; the footprint's area is the texel's area on the slope."""
        terrain = slope_terrain(east, south)
        points = terrain.points((40, 60))
        normal = np.array([-east, 1, -south]) / np.sqrt(1 + east**2 + south**2)
        assert np.abs(points.normal - normal).max() < 1e-4
        x, y, z = points.position.T
        assert np.abs(y - east * x - south * z).max() < 1e-4
        area = points.footprint.prod(axis=1)
        assert np.allclose(area, (30 / 60) * (20 / 40) * np.sqrt(1 + east**2 + south**2), rtol=1e-4)
        assert np.abs(np.einsum("nd,nd->n", points.normal, points.tangent[:, :3])).max() < 1e-5

    def test_texel_centres_uv_and_the_north_west_corner(self):
        points = slope_terrain(0, 0).points((2, 3))
        assert np.allclose(points.uv, [[(c + 0.5) / 3, (r + 0.5) / 2] for r in range(2) for c in range(3)])
        assert np.allclose(points.position[0], [5, 0, 5])

    def test_a_region_has_the_points_of_the_whole(self):
        rng = np.random.default_rng(0)
        terrain = jq.Terrain(rng.random((9, 9)), size=(8, 8))
        whole = terrain.points((20, 30))
        part = terrain.points((20, 30), slice(3, 11), slice(7, 22))
        rows = (np.arange(600).reshape(20, 30)[3:11, 7:22]).ravel()
        for name in ("position", "normal", "tangent", "uv", "footprint"):
            assert np.array_equal(getattr(part, name), getattr(whole, name)[rows])

    def test_heights_between_samples_are_bilinear_and_borders_hold(self):
        terrain = jq.Terrain([[0, 1], [2, 7]], size=(1, 1))
        places = terrain.points_at([[0.5, 0.5], [0.25, 0], [-9, -9], [9, 9]])
        assert np.allclose(places.position[:, 1], [2.5, 0.25, 0, 7])

    def test_a_heightmap_file_is_read_in_metres(self, tmp_path):
        write_image(tmp_path / "a.png", np.array([[0, 65535], [32768, 0]], np.uint16))
        terrain = jq.read_terrain(tmp_path / "a.png", size=(2, 2), heights=(-5, 15))
        assert terrain.height_range == pytest.approx((-5, 15))
        assert terrain.heights[1, 0] == pytest.approx(5, abs=1e-3)

    def test_eight_bits_warn_and_colour_and_nan_are_refused(self, tmp_path):
        write_image(tmp_path / "a.png", np.repeat(np.arange(40, dtype=np.uint8) // 5, 40).reshape(40, 40))
        with pytest.warns(jq.QuiltWarning, match="stairs of 0.0392 m"):
            jq.read_terrain(tmp_path / "a.png", size=(2, 2), heights=(0, 10))
        write_image(tmp_path / "c.png", np.array([[[1, 2, 30]] * 2] * 2, np.uint8))
        with pytest.raises(jq.QuiltError, match="as in a picture of the ground"):
            jq.read_terrain(tmp_path / "c.png", size=(2, 2), heights=(0, 10))
        write_image(tmp_path / "d.png", np.array([[[700, 701, 708]] * 2] * 2, np.uint16))
        with pytest.warns(jq.QuiltWarning, match="differ by up to 0 of 255; their mean"):
            almost = jq.read_terrain(tmp_path / "d.png", size=(2, 2), heights=(0, 65.535))
        assert almost.heights == pytest.approx(0.703, abs=1e-4)
        with pytest.raises(jq.QuiltError, match="1 NaN or infinite values, the first at \\(1, 0\\)"):
            jq.Terrain([[0, 1], [np.nan, 2]], size=(1, 1))
        with pytest.raises(jq.QuiltError, match="lower one first"):
            jq.read_terrain(tmp_path / "a.png", size=(2, 2), heights=(10, 0))
        with pytest.raises(jq.QuiltError, match="above 0 m"):
            jq.Terrain(np.zeros((2, 2)), size=(0, 1))


class TestCamera:
    def test_pixels_see_the_ground_that_lies_on_their_rays(self):
        terrain = slope_terrain(0.2, -0.1, (40.0, 40.0))
        camera = jq.Camera(position=(20, 15, 39), target=(20, 3, 15))
        block = PictureCanvas(camera, [terrain], 30, 40).block(Region(0, 30, 0, 40))
        points, met, rays = block.pieces[0].points, block.pieces[0].where.each, block.rays
        assert 0.3 < len(met) / 1200 <= 1
        way = points.position - np.array(camera.position)
        way /= np.linalg.norm(way, axis=1, keepdims=True)
        assert np.abs(way - rays[met]).max() < 2e-3
        assert (points.footprint > 0).all()

    @given(st.integers(0, 10**6))
    @settings(max_examples=20, deadline=None)
    def test_rays_meet_the_ground_where_small_steps_would(self, seed):
        """Against a march in steps of a fiftieth of a cell, on rough ground."""
        rng = np.random.default_rng(seed)
        terrain = jq.Terrain(3 * rng.random((20, 30)), size=(29.0, 19.0))
        origin = np.array([14.0, 9.0, 25.0])
        aim = np.column_stack([rng.uniform(2, 27, 30), rng.uniform(0, 2, 30), rng.uniform(2, 17, 30)])
        rays = aim - origin
        rays /= np.linalg.norm(rays, axis=1, keepdims=True)
        found = terrain.meet_rays(origin, rays.astype(np.float32))
        far = np.arange(0, 45, 0.02)
        for ray, distance in zip(rays, found, strict=True):
            path = origin + far[:, None] * ray
            inside = (path[:, 0] >= 0) & (path[:, 0] <= 29) & (path[:, 2] >= 0) & (path[:, 2] <= 19)
            ground = terrain.points_at(path[:, [0, 2]]).position[:, 1]
            below = np.flatnonzero(inside & (path[:, 1] < ground))
            if len(below) < 3 or below[0] == np.flatnonzero(inside)[0]:
                continue  # a ray that grazes the ground may fall between the steps; one may come in below it, from the side
            if distance >= 0:
                place = origin + distance * ray
                height = terrain.points_at([[place[0], place[2]]]).position[0, 1]
                assert abs(place[1] - height) < 0.02
            assert -0.05 < far[below[0]] - distance < 0.05 or 0 <= distance < far[below[0]]

    def test_a_wall_casts_its_shadow_away_from_the_sun(self):
        heights = np.zeros((65, 65))
        heights[:, 31:34] = 6
        terrain = jq.Terrain(heights, size=(64, 64))
        points = terrain.points_at([[20, 32], [37, 32], [50, 32]])
        towards = np.array([-1, 1, 0]) / np.sqrt(2)
        assert terrain.sunlit(points, towards).tolist() == [1, 0, 1]

    def test_rays_fan_out_as_the_angle_says_and_rows_are_parts_of_the_whole(self):
        camera = jq.Camera(position=(0, 0, 0), target=(0, 0, -1), view_angle=90)
        rays = camera.rays(100, 200).reshape(100, 200, 3)
        up, left = rays[0].mean(axis=0), rays[:, 0].mean(axis=0)
        assert np.degrees(np.arctan2(up[1], -up[2])) == pytest.approx(44.7, abs=0.1)
        assert np.degrees(np.arctan2(left[0], -left[2])) == pytest.approx(-63.4, abs=0.2)
        assert np.abs(np.linalg.norm(rays, axis=2) - 1).max() < 1e-6
        assert np.array_equal(camera.rays(100, 200, np.arange(6000, 8000)), rays[30:40].reshape(-1, 3))

    def test_straight_down_is_refused(self):
        with pytest.raises(jq.QuiltError, match="straight"):
            jq.Camera(position=(0, 5, 0), target=(0, 0, 0))


class TestPoints:
    def test_a_part_of_the_points_is_the_points_of_that_part(self):
        points = slope_terrain(0.3, 0.1).points((5, 6))
        for part in (slice(4, 9), points.position[:, 0] > 15):
            some = points[part]
            assert len(some) == len(points.position[part])
            assert np.array_equal(some.uv, points.uv[part])
            assert np.array_equal(some.footprint, points.footprint[part])

    def test_arrays_are_kept_from_change(self):
        with pytest.raises(ValueError, match="read-only"):
            slope_terrain(0, 0).points((2, 2)).position[:] = 1

    def test_what_is_made_by_hand_is_checked(self):
        made = jq.Points.of([[0, 0, 0]], [[0, 2, 0]])
        assert np.allclose(made.normal, [[0, 1, 0]])
        assert np.allclose(made.tangent, [[1, 0, 0, 1]])
        for bad in (
            dict(position=[[0, 0]], normal=[[0, 1, 0]]),
            dict(position=[[0, 0, 0]], normal=[[0, 0, 0]]),
            dict(position=[[np.inf, 0, 0]], normal=[[0, 1, 0]]),
            dict(position=[[0, 0, 0]], normal=[[0, 1, 0]], footprint=-1),
        ):
            with pytest.raises(jq.QuiltError):
                jq.Points.of(**bad)


class TestHeightmaps:
    """Every form that a heightmap comes in gives the same ground."""

    METRES = np.linspace(-40, 90, 35).reshape(5, 7) + np.sin(np.arange(35)).reshape(5, 7)

    def share(self, top):
        return np.rint((self.METRES + 50) / 150 * top)

    def read(self, path, **how):
        return jq.read_terrain(path, **{"size": (14, 20), "heights": (-50, 100), **how})

    def test_images_of_any_depth_not_square_and_below_zero(self, tmp_path):
        write_image(tmp_path / "a.png", self.share(65535).astype(np.uint16)[..., None])
        write_image(tmp_path / "b.tif", self.share(65535).astype(np.uint16)[..., None])
        write_image(tmp_path / "c.exr", ((self.METRES + 50) / 150).astype(np.float32)[..., None])
        write_image(tmp_path / "d.tif", self.METRES.astype(np.float32)[..., None])
        for name, off in (("a.png", 0.002), ("b.tif", 0.002), ("c.exr", 0.1)):
            assert np.abs(self.read(tmp_path / name).heights - self.METRES).max() < off
        terrain = self.read(tmp_path / "d.tif", heights=None)
        assert np.abs(terrain.heights - self.METRES).max() < 1e-4
        assert terrain.spacing == pytest.approx((14 / 6, 20 / 4))
        with pytest.raises(RangeError, match=r"a\.png: heights are needed, metres at black and at white"):
            self.read(tmp_path / "a.png", heights=None)

    def test_twenty_four_bits_in_red_green_and_blue(self, tmp_path):
        whole = self.share((1 << 24) - 1).astype(np.uint32)
        write_image(tmp_path / "a.png", np.stack([whole >> 16, whole >> 8 & 255, whole & 255], axis=2).astype(np.uint8))
        assert np.abs(self.read(tmp_path / "a.png", form="rgb24").heights - self.METRES).max() < 2e-5
        with pytest.raises(ImageError, match=r'must be grey; .* as the digits of one number do.*write form = "rgb24"'):
            self.read(tmp_path / "a.png")
        write_image(tmp_path / "g.png", whole.astype(np.uint16)[..., None])
        with pytest.raises(ImageError, match="red, green and blue of 8 bits each; this image has 1 channels of 16 bits"):
            self.read(tmp_path / "g.png", form="rgb24")

    @pytest.mark.parametrize("order", ["little", "big"])
    def test_raw_samples_in_either_order_of_bytes(self, tmp_path, order):
        stored = self.share(65535).astype(np.uint16)
        (tmp_path / "a.raw").write_bytes(stored.astype("<u2" if order == "little" else ">u2").tobytes())
        how = {"form": "raw16", "samples": (7, 5)}
        assert np.abs(self.read(tmp_path / "a.raw", byte_order=order, **how).heights - self.METRES).max() < 0.002
        v, u = np.mgrid[:64, :64] / 64
        (tmp_path / "b.raw").write_bytes(
            (20000 + 9000 * np.sin(3 * u + v)).astype("<u2" if order == "little" else ">u2").tobytes()
        )
        other = "big" if order == "little" else "little"
        with pytest.warns(jq.QuiltWarning, match=f'bytes stood the other way round; try byte_order = "{order}"'):
            self.read(tmp_path / "b.raw", form="raw16", samples=(64, 64), byte_order=other)

    def test_raw_files_that_do_not_fit_are_refused(self, tmp_path):
        (tmp_path / "a.raw").write_bytes(bytes(2 * 81))
        for how, words in (
            ({}, r"a raw file does not tell its size; .*; it would hold 9 x 9"),
            ({"samples": (9, 8)}, "9 x 8 samples of 16 bits are 144 bytes; this file has 162; it would hold 9 x 9"),
            ({"samples": (9, 9), "byte_order": "middle"}, 'no byte order is called "middle"'),
            ({"samples": (9, 9), "form": "raw"}, 'no form of heightmap is called "raw"; did you mean "raw16"'),
            ({"samples": (9, 9), "form": "grey"}, "samples are said of raw files"),
        ):
            with pytest.raises(jq.QuiltError, match=words):
                self.read(tmp_path / "a.raw", **{"form": "raw16", **how})
        with pytest.raises(jq.QuiltError, match="no such heightmap"):
            self.read(tmp_path / "gone.raw", form="raw16", samples=(9, 9))

    def test_stairs_are_found_wherever_they_are_stored_and_smoothed_if_asked(self, tmp_path):
        v, u = np.mgrid[:65, :65] / 64
        slope = 0.2 * u + 0.1 * v
        coarse = np.rint(slope * 255)
        write_image(tmp_path / "a.png", coarse.astype(np.uint8)[..., None])
        write_image(tmp_path / "b.png", (coarse * 257).astype(np.uint16)[..., None])
        write_image(tmp_path / "fine.png", np.rint(slope * 65535).astype(np.uint16)[..., None])
        for name in ("a.png", "b.png"):
            with pytest.warns(
                jq.QuiltWarning, match=r"stairs of 0\.4 m, as 8 bits leave them; use 16 bits or float, or smooth"
            ):
                rough = self.read(tmp_path / name, heights=(0, 102))
            smooth = self.read(tmp_path / name, heights=(0, 102), smooth=True)
            assert np.abs(smooth.heights - rough.heights).max() <= 0.2 + 1e-5
            inner = (slice(6, -6), slice(6, -6))
            off = [np.abs(each.heights - slope * 102)[inner].mean() for each in (smooth, rough)]
            assert off[0] < 0.3 * off[1]
        assert self.read(tmp_path / "fine.png", heights=(0, 102)).height_range[0] == 0  # no warning

    def test_the_quilt_file_says_all_of_it(self, project):
        stored = (20000 + 9000 * np.sin(np.mgrid[:12, :9][0] / 3)).astype(">u2")
        (project / "ground.raw").write_bytes(stored.tobytes())
        raw = '"ground.raw"\nform = "raw16"\nsamples = [9, 12]\nbyte_order = "big"'
        text = (project / "job.quilt.toml").read_text().replace('"ground.png"', raw)
        (project / "job.quilt.toml").write_text(text)
        quilt = jq.read_quilt(project / "job.quilt.toml")
        assert quilt.terrain.heights.shape == (12, 9)
        assert np.allclose(quilt.terrain.heights, stored / 65535 * 4, atol=1e-4)
        write_image(project / "metres.exr", np.full((4, 4, 1), 7.5, np.float32))
        (project / "job.quilt.toml").write_text(QUILT.replace("ground.png", "metres.exr").replace("heights = [0.0, 4.0]\n", ""))
        assert jq.read_quilt(project / "job.quilt.toml").loaded.heights == (7.5, 7.5)


class TestCubic:
    """Heights between samples by splines, and the slopes that belong to them."""

    def test_samples_stay_and_slopes_there_are_those_of_the_samples(self):
        heights = np.random.default_rng(2).random((9, 12)) * 5
        smooth, plain = (jq.Terrain(heights, size=(22.0, 12.0), between=way) for way in ("cubic", "bilinear"))
        z, x = np.meshgrid(np.arange(9) * 1.5, np.arange(12) * 2.0, indexing="ij")
        at = np.column_stack([x.ravel(), z.ravel()])
        one, two = smooth.points_at(at), plain.points_at(at)
        assert np.allclose(one.position, two.position, atol=1e-5)
        assert np.allclose(one.normal, two.normal, atol=1e-5)

    def test_a_curved_ground_is_met_far_more_closely(self):
        def ground(x, z):
            return 3 * np.sin(x / 5) * np.cos(z / 4)

        z, x = np.meshgrid(np.linspace(0, 40, 33), np.linspace(0, 60, 49), indexing="ij")
        at = np.random.default_rng(3).uniform((3, 3), (57, 37), (400, 2))
        exact = ground(at[:, 0], at[:, 1])
        slope = np.column_stack(
            [
                -0.6 * np.cos(at[:, 0] / 5) * np.cos(at[:, 1] / 4),
                np.ones(400),
                0.75 * np.sin(at[:, 0] / 5) * np.sin(at[:, 1] / 4),
            ]
        )
        slope /= np.linalg.norm(slope, axis=1, keepdims=True)
        off, bent = {}, {}
        for way in ("cubic", "bilinear"):
            points = jq.Terrain(ground(x, z), size=(60, 40), between=way).points_at(at)
            off[way] = np.abs(points.position[:, 1] - exact).max()
            bent[way] = np.abs(points.normal - slope).max()
        assert off["cubic"] < off["bilinear"] / 8
        assert bent["cubic"] < bent["bilinear"]

    @settings(deadline=None, max_examples=25)
    @given(st.integers(0, 999))
    def test_normals_are_the_slope_of_the_heights_without_a_crease(self, seed):
        rng = np.random.default_rng(seed)
        terrain = jq.Terrain(rng.random((7, 7)) * 4, size=(12.0, 18.0), between="cubic")
        at = rng.uniform((0.1, 0.1), (11.9, 17.9), (60, 2))
        step = 1e-2
        points = terrain.points_at(at)
        for axis, side in ((0, (step, 0)), (1, (0, step))):
            ahead, behind = (terrain.points_at(at + sign * np.array(side)).position[:, 1].astype(float) for sign in (1, -1))
            rise = (ahead - behind) / (2 * step)
            assert np.abs(-points.normal[:, 2 * axis] / points.normal[:, 1] - rise).max() < 0.02
        beside = 6.0 + 1e-4 * np.array([-1, 1]).repeat(25)  # where two cells meet
        across = terrain.points_at(np.column_stack([beside, np.tile(at[:25, 1], 2)]))
        assert np.abs(across.normal[:25] - across.normal[25:]).max() < 2e-3

    def test_a_plane_is_a_plane_up_to_its_border(self):
        z, x = np.meshgrid(np.linspace(0, 20, 9), np.linspace(0, 30, 13), indexing="ij")
        terrain = jq.Terrain(0.3 * x - 0.2 * z, size=(30, 20), between="cubic")
        points = terrain.points((40, 60))
        assert np.abs(points.position[:, 1] - 0.3 * points.position[:, 0] + 0.2 * points.position[:, 2]).max() < 1e-5
        assert np.ptp(points.normal, axis=0).max() < 1e-5
        with pytest.raises(jq.QuiltError, match='no way between samples is called "cube"; did you mean "cubic"'):
            jq.Terrain(np.zeros((2, 2)), size=(1, 1), between="cube")


def hills(rows, columns, size):
    z, x = np.meshgrid(np.linspace(0, size[1], rows), np.linspace(0, size[0], columns), indexing="ij")
    return 4 * np.sin(0.3 * x) * np.cos(0.22 * z) + np.maximum(0, x - 0.6 * size[0])


def upright_distance(mesh, terrain):
    """By how much each sample of a terrain lies above or below a mesh, reckoned triangle by triangle."""
    rows, columns = terrain.heights.shape
    out = np.full((rows, columns), np.nan)
    for corners in mesh.position.astype(float)[mesh.triangles]:
        low, high = corners.min(axis=0), corners.max(axis=0)
        r = np.arange(int(np.ceil(low[2] / terrain.spacing[1] - 1e-6)), int(high[2] / terrain.spacing[1] + 1e-6) + 1)
        c = np.arange(int(np.ceil(low[0] / terrain.spacing[0] - 1e-6)), int(high[0] / terrain.spacing[0] + 1e-6) + 1)
        z, x = np.meshgrid(r * terrain.spacing[1], c * terrain.spacing[0], indexing="ij")
        edges = (corners[1:] - corners[0])[:, [0, 2]].T
        shares = np.linalg.solve(edges, np.stack([x - corners[0, 0], z - corners[0, 2]]).reshape(2, -1))
        inside = (shares >= -1e-6).all(axis=0) & (shares.sum(axis=0) <= 1 + 1e-6)
        height = corners[0, 1] + shares.T @ (corners[1:, 1] - corners[0, 1])
        rr, cc = np.meshgrid(r, c, indexing="ij")
        at = rr.ravel()[inside], cc.ravel()[inside]
        out[at] = height[inside] - terrain.heights[at]
    return out


class TestTerrainMesh:
    @pytest.mark.parametrize("error", [1.5, 0.4, 0.05])
    def test_no_sample_lies_farther_than_asked(self, error):
        terrain = jq.Terrain(hills(33, 45, (44.0, 40.0)), size=(44.0, 40.0))
        mesh = jq.export.terrain_mesh(terrain, error)
        away = np.abs(upright_distance(mesh, terrain))
        assert np.isfinite(away).all()  # every sample has a triangle over or under it
        assert away.max() <= error + 1e-4
        assert len(mesh.triangles) < 2 * 32 * 44
        flat = mesh.position[mesh.triangles][..., [0, 2]].astype(float)
        e, f = flat[:, 1] - flat[:, 0], flat[:, 2] - flat[:, 0]
        assert np.abs(e[:, 0] * f[:, 1] - e[:, 1] * f[:, 0]).sum() / 2 == pytest.approx(44 * 40, rel=1e-6)
        assert mesh.normal[:, 1].min() > 0

    def test_neighbours_meet_and_flat_ground_is_cheap(self):
        """Two halves of one terrain keep the same samples along their border."""
        whole = hills(33, 65, (64.0, 32.0))
        west, east = (jq.Terrain(half, size=(32.0, 32.0)) for half in (whole[:, :33], whole[:, 32:]))
        left, right = (jq.export.terrain_mesh(each, 0.2).position for each in (west, east))
        assert np.array_equal(np.unique(left[left[:, 0] > 31.99, 1:], axis=0), np.unique(right[right[:, 0] < 0.01, 1:], axis=0))
        assert len(jq.export.terrain_mesh(jq.Terrain(np.zeros((33, 33)), size=(9, 9)), 0.1).triangles) == 2

    def test_it_is_finer_near_a_camera(self):
        terrain = jq.Terrain(hills(65, 65, (128.0, 128.0)), size=(128.0, 128.0))
        mesh = jq.export.terrain_mesh(terrain, 0.1, camera=(0.0, 5.0, 0.0), near=15.0)
        away = np.linalg.norm(mesh.position - [0, 5, 0], axis=1)
        full = jq.export.terrain_mesh(terrain, 0.1)
        assert (away < 40).sum() / (np.linalg.norm(full.position - [0, 5, 0], axis=1) < 40).sum() > 0.4
        assert len(mesh.triangles) < 0.6 * len(full.triangles)
        with pytest.raises(jq.QuiltError, match="error must be above 0 m"):
            jq.export.terrain_mesh(terrain, 0)


class TestTiles:
    @pytest.fixture
    def files(self, tmp_path):
        """A terrain of 17 x 25 samples in two rows of three files that share their borders."""
        whole = np.rint(65535 * (hills(17, 25, (24.0, 16.0)) + 5) / 25).astype(np.uint16)
        for row, column in np.ndindex(2, 3):
            write_image(tmp_path / f"{row}{column}.png", whole[8 * row : 8 * row + 9, 8 * column : 8 * column + 9])
        write_image(tmp_path / "whole.png", whole)
        return [[tmp_path / f"{row}{column}.png" for column in range(3)] for row in range(2)], tmp_path / "whole.png"

    def test_files_that_meet_are_one_terrain(self, files):
        """So normals and weights at their borders are those of the whole."""
        tiles, whole = files
        options = {"size": (24.0, 16.0), "heights": (-5.0, 20.0)}
        one, other = jq.read_terrain(tiles, **options), jq.read_terrain(whole, **options)
        assert np.array_equal(one.heights, other.heights)
        assert np.array_equal(one.points((40, 60)).normal, other.points((40, 60)).normal)

    def test_a_quilt_file_names_them(self, files, project):
        tiles, _ = files
        quilt = project / "job.quilt.toml"
        rows = [[str(path) for path in row] for row in tiles]
        text = QUILT.replace('terrain = "ground.png"', f"terrain = {rows}").replace(
            "size = [16.0, 16.0]", "size = [24.0, 16.0]"
        )
        quilt.write_text(text)
        assert jq.read_quilt(quilt).terrain.heights.shape == (17, 25)

    def test_files_that_do_not_meet_are_refused(self, files, tmp_path):
        tiles, whole = files
        read = lambda rows: jq.read_terrain(rows, size=(24, 16), heights=(0, 20))
        with pytest.raises(jq.QuiltError, match=r"02\.png: does not meet .*00\.png: .* are the files in order"):
            read([[tiles[0][0], tiles[0][2]]])
        with pytest.raises(jq.QuiltError, match=r"17 samples along its border with .*, which has 9"):
            read([[tiles[0][0], whole]])
        with pytest.raises(jq.QuiltError, match=r"equally many files; got rows of \[3, 2\]"):
            read([tiles[0], tiles[1][:2]])
        texels = np.array(jq.images.read_image(tiles[0][1]))
        texels[:, 0] += 2
        write_image(tmp_path / "off.png", texels)
        with pytest.warns(jq.QuiltWarning, match="differ by up to 0.00061 m along their borders; averaged"):
            read([[tiles[0][0], tmp_path / "off.png"]])
