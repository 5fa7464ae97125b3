"""Meshes and projections in a quilt file, and the pictures that show how textures lie."""

import re
import warnings

import numpy as np
import pytest

import jagged_quilt as jq
from conftest import jquilt
from jagged_quilt.images import read_image
from jagged_quilt.results import requests
from jagged_quilt.results.results import Results
from jagged_quilt.results.scene_of import scene_of
from jagged_quilt.show.debug import _OWN, DEBUG, look

MESH = """
[[mesh]]
name = "crate"
file = "crate.glb"
at = [8.0, 0.0, 8.0]
stand = true
turn = 30.0
scale = 2.0
unwrap = true
texels = 64
padding = 4
[[mesh.layer]]
swatch = "clay"
projection = "box"
space = "object"
[[mesh.layer]]
swatch = "salt"
projection = "cylindrical"
space = "object"
radius = 0.5
[[mesh.layer.mask]]
kind = "slope"
band = [0.0, 30.0]
fade = 5.0
"""

SALT = '[[mesh.layer]]\nswatch = "salt"'


@pytest.fixture
def crate(project):
    """The small project with a crate on its ground."""
    jq.export.write_mesh(jq.shapes.box(), project / "crate.glb")
    quilt = project / "job.quilt.toml"
    quilt.write_text(quilt.read_text() + MESH)
    return quilt


def bake_meshes(quilt_file):
    """Bake every mesh; return which were baked anew."""
    results = Results(jq.read_quilt(quilt_file))
    return [results.run(name).fresh for name in results.mesh_steps]


class TestQuiltMeshes:
    def test_a_mesh_is_put_in_its_place_with_its_layers(self, crate):
        quilt = jq.read_quilt(crate)
        mesh = quilt.meshes[0]
        ground = quilt.terrain.points_at([[8, 8]]).position[0, 1]
        low, high = mesh.bounds
        assert (low[1] + high[1]) / 2 == pytest.approx(ground, abs=1e-4)
        turn = np.radians(30)
        assert high[0] - low[0] == pytest.approx(2 * (np.cos(turn) + np.sin(turn)), abs=1e-3)
        projections = [layer.projection for layer in quilt.layers_by_part[0]["box"]]
        assert projections == [jq.Box(space="object"), jq.Cylindrical(space="object", radius=0.5)]

    def test_it_is_baked_kept_and_shown(self, crate):
        code, said, errors = jquilt("bake", crate)
        assert (code, errors) == (0, "")
        assert "of the layout covered" in said
        out = crate.parent / "out" / "meshes" / "crate"
        diffuse = read_image(out / "diffuse.png")
        assert diffuse.shape == (64, 64, 3)
        assert "kept as it was" in jquilt("bake", crate)[1]
        assert jquilt("check", crate)[1].count('mesh "crate": crate.glb, 12 triangles, 2.73 x 2.00 x 2.73 m, uv; one part') == 1
        crate.write_text(crate.read_text().replace("padding = 4", "padding = 0"))
        jquilt("bake", crate)
        assert (read_image(out / "diffuse.png") == 0).sum() > (diffuse == 0).sum()

    def test_what_a_mesh_file_names_beside_itself_is_noticed(self, crate):
        """A vertex that moves in the file is baked anew, whatever the quilt file says."""
        bake_meshes(crate)
        assert bake_meshes(crate) == [False]
        jq.export.write_mesh(jq.shapes.box((1, 1, 1.5)), crate.parent / "crate.glb")
        assert bake_meshes(crate) == [True]

    @pytest.mark.parametrize(
        ("change", "words"),
        [
            (('file = "crate.glb"', 'file = "gone.glb"'), r"mesh\[0\]\.file: .*gone\.glb"),
            (
                ('swatch = "salt"\nprojection = "cylindrical"', 'swatch = "sand"\nprojection = "cylindrical"'),
                r'mesh\[0\]\.layer\[1\]\.swatch: no swatch or medley is called "sand"',
            ),
            (("radius = 0.5", "sharpness = 3.0"), r"mesh\[0\]\.layer\[1\]\.sharpness: sharpness has no effect with "),
            (("radius = 0.5", "rotation = 45.0"), r"layer\[1\]\.rotation: rotation must be 0 or 180"),
            (("radius = 0.5", 'radius = 0.5\nwrap = "fold"'), r"wrap"),
            ((SALT, f'part = "lid"\n[[mesh.layer]]\nswatch = "clay"\n{SALT}'), r'no part is called "lid"'),
            (('name = "crate"', 'name = "a/b"'), r"mesh\[0\]\.name: .*letters, digits"),
            (("scale = 2.0", "scale = 0.0"), r"mesh\[0\]\.scale: scale must be above 0"),
            (("texels = 64\npadding", "texels = 0\npadding"), r"mesh\[0\]\.texels"),
            ((SALT, f'[[mesh.layer.mask]]\nkind = "noise"\nsize = 1.0\n{SALT}'), r"layer\[0\]\.mask: the lowest layer"),
        ],
    )
    def test_a_mistake_names_its_place(self, crate, change, words):
        assert change[0] in crate.read_text()
        crate.write_text(crate.read_text().replace(*change))
        with pytest.raises(jq.QuiltError, match=words):
            quilt = jq.read_quilt(crate)
            assert quilt.layers_by_part

    def test_every_key_of_a_projection_reaches_it(self, project):
        quilt = project / "job.quilt.toml"
        keys = (
            'sharpness = 8.0\nabove = 20.0\nabove_fade = 4.0\nspace = "object"\noffset = [0.1, 0.2]\nrotation = 30.0\n'
            'mirror = "u"\nscale = [2.0, 0.5]\nwrap = ["clamp", "mirror"]\nfilter = "anisotropic"\nanisotropy = 4\n'
            'detail = "cheap"\nwarp = { by = 0.2, size = 3.0, seed = 4 }\n'
        )
        quilt.write_text(quilt.read_text().replace('projection = "triplanar"\n', f'projection = "triplanar"\n{keys}'))
        assert jq.read_quilt(quilt).layers[1].projection == jq.Triplanar(
            8.0,
            above=20.0,
            above_fade=4.0,
            space="object",
            offset=(0.1, 0.2),
            rotation=30.0,
            mirror="u",
            scale=(2.0, 0.5),
            wrap=("clamp", "mirror"),
            filter="anisotropic",
            anisotropy=4,
            detail="cheap",
            warp=jq.Warp(0.2, 3.0, 4),
        )
        assert "limits of triplanar layers save" in jquilt("bake", quilt)[1]


def test_a_mesh_is_not_called_as_the_ground_is(crate):
    """Or films, maps and scenes would take one for the other."""
    crate.write_text(re.sub(r'(\[\[mesh\]\]\nname = )"[^"]*"', r'\1"ground"', crate.read_text()))
    with pytest.raises(jq.QuiltError, match=r'mesh\[0\]\.name: "ground" is what the terrain is called'):
        jq.read_quilt(crate)


class TestStanding:
    """A long box on a ramp that rises by a quarter towards the east."""

    LENGTH = 16.0

    @pytest.fixture
    def ramp(self, tmp_path):
        ramp = np.linspace(0, 10, 41) + 1e-4 * np.arange(41)[:, None]  # no two samples alike, or they would be stairs
        np.save(tmp_path / "ramp.npy", ramp.astype(np.float32))
        box = jq.shapes.box()
        wide = float(np.ptp(box.position[:, 0]))
        jq.export.write_mesh(box.placed(np.diag([self.LENGTH / wide, 2 / wide, 3 / wide, 1])), tmp_path / "boat.glb")

        def read(stand):
            mesh = f'[[mesh]]\nname = "boat"\nfile = "boat.glb"\nat = [20.0, 0.0, 20.0]\nstand = {stand}\n'
            ground = '[surface]\nterrain = "ramp.npy"\nsize = [40.0, 40.0]\n[[swatch]]\nname = "a"\ntile = 1.0\n'
            layer = '[[mesh.layer]]\nswatch = "a"\nprojection = "box"\n'
            (tmp_path / "a.quilt.toml").write_text(f"{ground}plain = {{ diffuse = 0.5 }}\n{mesh}{layer}")
            return jq.read_quilt(tmp_path / "a.quilt.toml")

        return read

    def test_upright_the_gap_is_reported_with_the_way_to_close_it(self, ramp):
        (reported,) = ramp("true").meshes[0].repairs
        assert "sinks in by up to 2.00 m and hangs up to 2.00 m above it" in reported
        assert 'stand = "lean"' in reported

    def test_it_leans_with_the_slope_below_it(self, ramp):
        quilt = ramp('"lean"')
        mesh = quilt.meshes[0]
        assert mesh.repairs == ()
        base = np.sort(mesh.world[:, 1] - quilt.terrain.points_at(mesh.world[:, [0, 2]]).world[:, 1])[: len(mesh.world) // 2]
        flat = jq.read_mesh(quilt.folder / "boat.glb").world[:, 1].min()
        assert np.abs(base - flat * np.sqrt(1 + 0.25**2)).max() < 0.05
        axis = mesh.parts[0].frame[:3, 1] / np.linalg.norm(mesh.parts[0].frame[:3, 1])
        assert np.allclose(axis, np.array([-0.25, 1, 0]) / np.sqrt(1 + 0.25**2), atol=1e-3)

    def test_on_flat_ground_both_are_the_same(self, ramp, tmp_path):
        ramp("true")
        np.save(tmp_path / "ramp.npy", np.full((41, 41), 3, np.float32))
        upright, leaning = (ramp(stand).meshes[0] for stand in ("true", '"lean"'))
        assert np.allclose(upright.world, leaning.world, atol=1e-6)
        assert upright.repairs == leaning.repairs == ()


def test_a_warning_of_a_bake_names_its_mesh(crate):
    """One whose uv have no extent in part."""
    mesh = jq.read_mesh(crate.parent / "crate.glb")
    uv = np.array(mesh.uv)
    uv[mesh.triangles[0]] = 0
    jq.export.write_mesh(jq.Mesh.of(mesh.position, mesh.triangles, normal=mesh.normal, uv=uv / 8), crate.parent / "crate.glb")
    crate.write_text(crate.read_text().replace("unwrap = true\n", ""))
    with warnings.catch_warnings(record=True) as reported:
        warnings.simplefilter("always", jq.QuiltWarning)
        jq.run(jq.read_quilt(crate), "bake crate")
    words = [str(each.message) for each in reported]
    assert any(re.match('mesh "crate": .* triangles have no extent in uv, and so no texel', each) for each in words), words


class TestExport:
    def test_the_terrain_as_a_mesh(self, crate):
        code, said, errors = jquilt("export", "terrain", crate, "--within", "0.05")
        assert (code, errors) == (0, "")
        assert "all samples would take 512" in said
        mesh = jq.read_mesh(crate.parent / "out" / "export" / "terrain.glb")
        assert np.allclose(mesh.bounds[1][[0, 2]], 16)
        coarse = jquilt("export", "terrain", crate, "--within", "0.05", "--near", "2")[1]
        assert len(jq.read_mesh(crate.parent / "out" / "export" / "terrain.glb").triangles) < len(mesh.triangles)
        assert "terrain.glb" in coarse


class TestPictures:
    def test_every_debug_picture_is_drawn(self, crate):
        """Boards with their keys, and all kinds as they are looked at, each telling something else."""
        results = Results(jq.read_quilt(crate))
        made = requests.show_debug(results, ["grid", "stretch"])
        for path in made.files:
            picture = read_image(path)
            assert picture.shape == (800, 1280, 3)
            assert np.ptp(picture[100:700].astype(int)) > 60, path
        scene, kinds = scene_of(results), [kind for kind in DEBUG if kind not in ("grid", *_OWN)]
        seen = look(scene, results.quilt.camera, kinds, (96, 60), jq.Work())
        assert min(np.ptp(np.nan_to_num(each)) for each in seen.values()) > 0
        assert len({each.tobytes() for each in seen.values()}) == len(kinds)
        alone = look(scene, results.quilt.camera, ["plane"], (96, 60), jq.Work(threads=1))
        assert np.array_equal(alone["plane"], seen["plane"])

    def test_four_rays_are_cast_where_they_are_needed(self, crate):
        """Nearly the picture that four rays everywhere give."""
        results = Results(jq.read_quilt(crate))
        scene, camera = scene_of(results), results.quilt.camera
        closely = scene.draw(camera, width=320, height=200, closely=True).astype(int)
        apart = np.abs(scene.draw(camera, width=320, height=200).astype(int) - closely)
        assert apart.mean() < 1
        assert (apart.max(axis=2) > 16).mean() < 0.003

    def test_two_ways_are_compared(self, crate):
        code, said, errors = jquilt("show", crate, "compare", "layer[1].projection=planar", "debug", "stretch")
        assert (code, errors) == (0, "")
        assert "compare.png" in said
        assert "debug_stretch.png" in said
        picture = read_image(crate.parent / "out" / "pictures" / "compare.png")
        assert (picture[72:460, 15:635] != picture[72:460, 645:1265]).any()
        same = Results(jq.read_quilt(crate))
        board = read_image(requests.show_compared(same, "", str(crate)).files[0])
        assert np.array_equal(board[72:460, 15:635], board[72:460, 645:1265])
        assert not list((crate.parent / "out").rglob(".new-*"))

    @pytest.mark.parametrize(
        ("words", "said"),
        [
            (("debug", "stretsh"), 'did you mean "stretch"'),
            (("compare", "layer[9].projection=planar"), "leads nowhere"),
            (("compare", "other.toml"), "other.toml"),
            (("compare", "a=1", "b=2", "c=3"), 'no picture is called "c=3"'),
        ],
    )
    def test_what_cannot_be_shown_is_refused_in_a_line(self, crate, words, said):
        code, _, errors = jquilt("show", crate, *words)
        assert code == 2
        assert said in errors
        assert "Traceback" not in errors

    def test_a_sheet_for_each_mesh(self, crate):
        made = Results(jq.read_quilt(crate)).run("meshes")
        assert [path.name for path in made.files] == ["meshes.png"]
