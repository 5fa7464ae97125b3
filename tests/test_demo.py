"""The demo's swatches: seamless, and all six maps of a swatch from one relief."""

import importlib.util
from pathlib import Path

import numpy as np
import pytest

import jagged_quilt as jq
from jagged_quilt.demo.ground import ground
from jagged_quilt.demo.project import write_project
from jagged_quilt.demo.swatches import MATERIALS, occlusion, swatch_maps

R = jq.MapRole
SIDE = 128


@pytest.fixture(scope="module", params=sorted(MATERIALS))
def material(request):
    """A material and its stored maps at 128 texels."""
    return MATERIALS[request.param], swatch_maps(MATERIALS[request.param], SIDE)


class TestSwatches:
    def test_all_maps_repeat_without_a_seam(self, material):
        """The step over the border is about as large as the largest steps inside are, at the most."""
        for role, stored in material[1].items():
            texels = stored.astype(float).reshape(SIDE, SIDE, -1)
            for axis in (0, 1):
                steps = np.abs(np.diff(texels, axis=axis, append=np.take(texels, [0], axis))).mean(axis=(1 - axis, 2))
                assert steps[-1] <= 1.25 * steps[:-1].max() + 1e-9, role

    def test_normals_are_the_slope_of_the_height(self, material):
        """Green up, at true scale in metres, within the rounding of 8 bits."""
        recipe, maps = material
        metres = maps[R.HEIGHT] / 65535 * recipe.relief
        texel = recipe.tile / SIDE
        east = (np.roll(metres, -1, 1) - np.roll(metres, 1, 1)) / (2 * texel)
        north = (np.roll(metres, 1, 0) - np.roll(metres, -1, 0)) / (2 * texel)
        wanted = np.stack([-east, -north, np.ones_like(east)], axis=2)
        wanted /= np.linalg.norm(wanted, axis=2, keepdims=True)
        assert np.abs(maps[R.NORMAL] / 127.5 - 1 - wanted).max() < 0.012

    def test_values_are_what_such_surfaces_have(self, material):
        maps = material[1]
        assert maps[R.HEIGHT].dtype == np.uint16
        assert np.ptp(maps[R.HEIGHT]) > 60_000
        linear = jq.TextureMap(role=R.DIFFUSE, texels=maps[R.DIFFUSE]).values
        assert 0.01 < linear.mean() < 0.9
        reflectance = jq.TextureMap(role=R.SPECULAR, texels=maps[R.SPECULAR]).values
        assert 0.018 < reflectance.min() <= reflectance.max() < 0.08
        assert maps[R.OCCLUSION].max() > 200

    def test_a_pit_is_darker_than_the_plain_around_it(self):
        plain = np.ones((32, 32))
        plain[14:18, 14:18] = 0.8
        open_sky = occlusion(plain, 0.1)
        assert open_sky[15, 15] < 0.6
        assert open_sky[0, 0] == pytest.approx(1)
        assert np.array_equal(np.roll(occlusion(np.roll(plain, 9, 0), 0.1), -9, 0), open_sky)


class TestProject:
    def test_it_is_the_same_bytes_every_time(self, tmp_path):
        for name, threads in (("a", 1), ("b", 2)):
            write_project(tmp_path / name, texels=32, work=jq.Work(threads=threads))
        first = {p.relative_to(tmp_path / "a"): p.read_bytes() for p in (tmp_path / "a").rglob("*") if p.is_file()}
        other = {p.relative_to(tmp_path / "b"): p.read_bytes() for p in (tmp_path / "b").rglob("*") if p.is_file()}
        assert first == other
        assert len(first) == 9 * 6 + 3 + 7

    def test_an_edited_quilt_file_is_kept(self, tmp_path):
        quilt_file = write_project(tmp_path, texels=32)
        quilt_file.write_text(quilt_file.read_text() + "# mine\n")
        write_project(tmp_path, texels=32)
        assert quilt_file.read_text().endswith("# mine\n")

    def test_terraces_are_flat_and_the_basin_is_lowest(self):
        metres = ground(257) * 38
        slope = np.hypot(*np.gradient(metres, 1.0))
        assert (slope < 0.2).mean() > 0.6
        row, column = np.unravel_index(np.argmin(metres), metres.shape)
        assert 0.3 < row / 256 < 0.95
        assert 0.3 < column / 256 < 0.95


class TestPacked:
    """What the demo's swatches lose by packing; measured by the functions of the benchmark."""

    @pytest.fixture(scope="class")
    @staticmethod
    def measure():
        path = Path(__file__).parents[1] / "benchmarks" / "pack.py"
        spec = importlib.util.spec_from_file_location("pack_benchmark", path)
        module = importlib.util.module_from_spec(spec)
        spec.loader.exec_module(module)
        return module

    @pytest.mark.parametrize("name", MATERIALS)
    def test_widening_at_least_halves_the_error_of_the_highlight(self, measure, name):
        """Of a mip, against 4096 full-size texels under each of its own."""
        assert measure.highlights(name, side=256) < 0.5

    def test_block_codes_keep_colour_and_normals(self, measure):
        degrees, psnr = measure.block_codes()
        assert degrees < 1.0
        assert psnr > 48
