"""Meshes: mended and complete, tangents as others make them, read from files as those are, and laid out by their uv."""

import json
import shutil
import struct
import subprocess
import warnings
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import jagged_quilt as jq
from conftest import made_swatch
from jagged_quilt.foundation.canvas import Region
from jagged_quilt.foundation.colour import linear_from_srgb
from jagged_quilt.foundation.path_guard import PathGuard
from jagged_quilt.images import write_image
from jagged_quilt.meshes.material import MeshMaterial
from jagged_quilt.meshes.refine import refined
from jagged_quilt.meshfiles.mtl import read_mtl
from jagged_quilt.meshfiles.polygons import cut_polygons
from jagged_quilt.surfaces.mesh_fields import MeshFields

SQUARE = [[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0]]
TANGENTS = Path(__file__).parent / "tangents.npz"
R = jq.MapRole


def kept_tangents():
    """What an independent implementation made of ten shapes, and the shapes."""
    with np.load(TANGENTS) as kept:
        return dict(kept)


def face_normals(mesh):
    at = mesh.position.astype(float)[mesh.triangles]
    return np.cross(at[:, 1] - at[:, 0], at[:, 2] - at[:, 0])


def turned(rng, mirror=False):
    """A random turn with a stretch along each axis and a move, as (4, 4)."""
    out = np.eye(4)
    turn = np.linalg.qr(rng.normal(size=(3, 3)))[0]
    turn *= np.sign(np.linalg.det(turn))
    out[:3, :3] = turn @ np.diag(rng.uniform(0.4, 2.5, 3) * (-1 if mirror else 1, 1, 1))
    out[:3, 3] = rng.uniform(-5, 5, 3)
    return out


class TestMesh:
    def test_what_cannot_be_drawn_is_left_out_and_reported(self):
        places = [*SQUARE, [np.nan, 0, 0], [np.inf, 1, 0]]
        faces = [[0, 1, 2], [0, 2, 3], [0, 1, 4], [2, 3, 5], [1, 1, 2]]
        with pytest.warns(jq.QuiltWarning) as reported:
            mesh = jq.Mesh.of(places, faces, uv=np.full((6, 2), np.nan), name="gate")
        assert len(mesh.triangles) == 2
        assert np.isfinite(mesh.position).all()
        words = " ".join(str(each.message) for each in reported)
        assert "2 of 6 positions are not finite; 2 triangles left out" in words
        assert "1 of 5 triangles have no area" in words
        assert "uv that is not finite" in words
        assert len(mesh.repairs) == 3
        for array in mesh.points().__class__.__dataclass_fields__:
            values = getattr(mesh.points(), array)
            assert values is None or np.isfinite(values).all()

    def test_bad_normals_and_tangents_are_made_anew(self):
        with pytest.warns(jq.QuiltWarning, match=r"normals have no direction|tangents have no direction"):
            mesh = jq.Mesh.of(
                SQUARE,
                [[0, 1, 2], [0, 2, 3]],
                normal=np.zeros((4, 3)),
                uv=np.array(SQUARE)[:, :2],
                tangent=np.full((4, 4), np.nan),
            )
        assert np.allclose(mesh.normal, [0, 0, 1])
        assert np.allclose(np.linalg.norm(mesh.tangent[:, :3], axis=1), 1)

    @pytest.mark.parametrize(
        ("places", "faces", "words"),
        [
            (SQUARE, [[0, 1, 4]], "triangle 0 names vertex 4; there are 4, from 0 to 3"),
            (SQUARE, [[0, -1, 2]], "names vertex -1"),
            (SQUARE, [], "no faces"),
            (SQUARE, [[0, 1, 1]], "no triangle is left of 1"),
            (SQUARE, [[0.5, 1, 2]], "whole numbers"),
            ([[0, 0]], [[0, 0, 0]], r"position must have shape \(N, 3\)"),
            ("nothing", [[0, 1, 2]], "must be numbers"),
        ],
    )
    def test_what_is_no_mesh_is_refused(self, places, faces, words):
        with pytest.raises(jq.QuiltError, match=words):
            jq.Mesh.of(places, faces)

    def test_edges_up_to_an_angle_are_smooth(self):
        """A box has a normal for each side, or one for each corner; a ball has the ball's own."""
        box = jq.shapes.box()
        welded = np.unique(box.position, axis=0)
        faces = np.array([[np.flatnonzero((welded == p).all(axis=1))[0] for p in box.position[t]] for t in box.triangles])
        sharp, round_ = jq.Mesh.of(welded, faces), jq.Mesh.of(welded, faces, smooth=180)
        assert (len(sharp.position), len(round_.position)) == (24, 8)
        assert np.allclose(np.abs(sharp.normal).max(axis=1), 1)
        assert np.allclose(np.abs(round_.normal), 3**-0.5, atol=1e-6)
        ball = jq.shapes.sphere(2.0)
        smooth = jq.Mesh.of(ball.position, ball.triangles, smooth=60)
        assert np.einsum("nd,nd->n", smooth.normal, smooth.position).min() > 2 * 0.999
        assert np.array_equal(smooth.position, ball.position[smooth.source])

    @settings(max_examples=30, deadline=None)
    @given(st.integers(0, 10**6), st.booleans())
    def test_a_transform_keeps_everything_in_its_place(self, seed, mirror):
        """Normals stay square to the surface, corners in order, and u and v where tangent and bitangent say."""
        rng = np.random.default_rng(seed)
        mesh = jq.shapes.sphere(1.0, around=24, down=12)
        moved = mesh.placed(turned(rng, mirror))
        out = face_normals(moved)
        assert (np.einsum("td,td->t", out, moved.normal[moved.triangles].mean(axis=1)) > 0).all()
        assert np.allclose(np.linalg.norm(moved.normal, axis=1), 1, atol=1e-5)
        assert (moved.tangent[0, 3] != mesh.tangent[0, 3]) == mirror
        points = moved.points()
        bitangent = np.cross(points.normal, points.tangent[:, :3]) * points.tangent[:, 3:]
        inner = np.abs(mesh.position[:, 1]) < 0.8
        assert (np.einsum("nd,nd->n", points.uv_gradient[:, 0], points.tangent[:, :3])[inner] > 0).all()
        assert (np.einsum("nd,nd->n", points.uv_gradient[:, 1], bitangent)[inner] < 0).all()
        frame = moved.parts[0].frame
        back = moved.position.astype(float) @ np.linalg.inv(frame[:3, :3]).T - np.linalg.inv(frame)[:3, 3] * -1
        assert np.abs(back - mesh.position).max() < 1e-4
        flat = np.diag([1.0, 0, 1, 1])
        with pytest.raises(jq.QuiltError, match="must not flatten"):
            mesh.placed(flat)

    def test_parts_are_taken_and_joined(self):
        both = jq.Mesh.joined([jq.shapes.box(), jq.shapes.sphere(0.5)])
        assert both.part_names == ("box", "sphere")
        assert np.array_equal(both.part("sphere").position, jq.shapes.sphere(0.5).position)
        assert both.area == pytest.approx(jq.shapes.box().area + jq.shapes.sphere(0.5).area)
        with pytest.raises(jq.QuiltError, match='did you mean "box"'):
            both.part("bix")

    @pytest.mark.parametrize("shape", ["plane", "box", "sphere", "tube"])
    def test_uv_of_made_shapes_are_metres(self, shape):
        """A unit of u or v is a metre of surface, and every triangle looks outwards."""
        mesh = {
            "plane": lambda: jq.shapes.plane((2, 3), cells=4),
            "box": lambda: jq.shapes.box((1, 2, 3)),
            "sphere": lambda: jq.shapes.sphere(1.0, around=256, down=128),
            "tube": lambda: jq.shapes.tube([[0, 0, 0], [0, 4, 0]], 0.3, around=96),
        }[shape]()
        points = mesh.points()
        steep = np.linalg.norm(points.uv_gradient, axis=2)
        middle = np.abs(points.position[:, 1]) < 0.02 if shape == "sphere" else slice(None)
        assert np.allclose(steep[middle], 1, atol=2e-3)
        assert (np.einsum("td,td->t", face_normals(mesh), mesh.normal[mesh.triangles].mean(axis=1)) > 0).all()

    def test_a_rope_has_whole_tiles_around(self):
        rope = jq.shapes.tube([[0, 0, 0], [1, 0, 0], [1, 0, 1]], 0.1, tile=0.25)
        assert rope.uv[:, 0].max() / 0.25 == pytest.approx(3)  # 0.628 m around
        jar = jq.shapes.jar(0.6, tile=0.2)
        assert jar.uv[:, 0].max() / 0.2 == pytest.approx(round(jar.uv[:, 0].max() / 0.2))
        for path in ([[0, 0, 0]], [[0, 0, 0], [0, 0, 0]], [[0, 0, 0], [1, 0, 0], [0, 0, 0]]):
            with pytest.raises(jq.QuiltError, match="path must"):
                jq.shapes.tube(path)

    def test_curvature_is_that_of_a_ball(self):
        ball = jq.shapes.sphere(2.0)
        assert np.allclose(MeshFields(ball).curvature(0.6).at(ball.points()), 0.5, atol=1e-3)

    @pytest.mark.parametrize("origin", [(0, 0, 0), (4e5, 20, -3e5)])
    def test_a_wall_hides_what_a_closed_form_says(self, origin):
        """Of the light that falls on level ground a long wall, h high, d away, hides half of 1 - d / sqrt(d² + h²)."""
        corners = [[-30, 0, 0], [30, 0, 0], [30, 0, 8], [-30, 0, 8], [-30, 0, 0], [30, 0, 0], [30, 3, 0], [-30, 3, 0]]
        triangles = [[0, 3, 1], [1, 3, 2], [4, 5, 6], [4, 6, 7]]
        court = jq.Mesh.of(np.array(corners) + np.array(origin), triangles, normal=[[0, 1, 0]] * 4 + [[0, 0, 1]] * 4)
        away = np.array([1.5, 3, 5, 7])
        places = np.column_stack([np.full(4, 0.3), np.zeros(4), away]) + np.array(origin)
        points = jq.Points.of(np.zeros((4, 3)), [[0, 1, 0]] * 4).at(places)
        mask = jq.AmbientOcclusion(100.0, full=1.0).on(MeshFields(court))
        assert mask.answer(points) == pytest.approx(0.5 * (1 - away / np.sqrt(away**2 + 9)), abs=0.03)
        assert jq.AmbientOcclusion(2.0).on(MeshFields(court)).answer(points)[1:] == pytest.approx(0)

    def test_a_ball_hides_nothing_outside_and_all_within(self):
        ball = jq.shapes.sphere(2.0)
        turned = jq.Mesh.of(ball.position, ball.triangles[:, ::-1], normal=-ball.normal, uv=ball.uv)
        for mesh, wanted in ((ball, 0), (turned, 1)):
            assert np.allclose(MeshFields(mesh).ambient_occlusion(9.0).at(mesh.points()), wanted, atol=0.03)

    def test_distance_is_straight_to_where_a_mask_passes_one_half(self):
        ball = jq.shapes.sphere(2.0)
        points, low = ball.points()[np.abs(ball.position[:, 1]) < 1.9], 0.7
        away = jq.Distance(jq.HeightBand(low, 9, fade=0.3), 0, 1).on(MeshFields(ball)).values(points)
        ring = points.position[:, [0, 2]] / np.maximum(np.linalg.norm(points.position[:, [0, 2]], axis=1), 1e-9)[:, None]
        edge = low - 0.15  # where a fade of 0.3 has come half way
        to = np.column_stack([ring[:, 0] * np.sqrt(4 - edge**2), np.full(len(ring), edge), ring[:, 1] * np.sqrt(4 - edge**2)])
        wanted = np.linalg.norm(points.position - to, axis=1) * np.where(points.position[:, 1] > edge, -1, 1)
        assert np.abs(away - wanted).max() < 0.01
        nowhere = jq.Distance(jq.Constant(0.0), 0, 1).on(MeshFields(ball))
        assert (nowhere.values(points) == 1e6).all()


class TestTangents:
    def test_they_are_those_of_an_independent_implementation(self):
        """On ten shapes, within 0.1 degrees at every corner of a triangle that has extent in uv."""
        kept = kept_tangents()
        names = sorted({key.rsplit(" ", 1)[0] for key in kept})
        assert len(names) == 10
        for name in names:
            position, normal, uv = (kept[f"{name} {key}"] for key in ("position", "normal", "uv"))
            corners = kept[f"{name} triangles"].astype(np.int64)
            mesh, theirs = jq.Mesh.of(position, corners, normal=normal, uv=uv), kept[f"{name} tangents"]
            at = uv.astype(float)[corners]
            e, f = at[:, 1] - at[:, 0], at[:, 2] - at[:, 0]
            sound = np.repeat(np.abs(e[:, 0] * f[:, 1] - e[:, 1] * f[:, 0]) > 1e-9, 3)
            ours = mesh.tangent[mesh.triangles.ravel()]
            along = np.einsum("nd,nd->n", ours[:, :3], theirs[:, :3]) / np.linalg.norm(theirs[:, :3], axis=1)
            assert np.degrees(np.arccos(np.clip(along[sound], -1, 1))).max() < 0.1, name
            assert np.array_equal(ours[sound, 3], theirs[sound, 3]), name
            assert np.abs(np.einsum("nd,nd->n", mesh.normal, mesh.tangent[:, :3])).max() < 1e-5
            assert np.isfinite(mesh.tangent).all()


OBJ = """\
\ufeff# a comment
mtllib \\\\server\\stuff\\all of it.mtl
o gate
v 0 0 0 1 0 0
v 1 0 0 0 1 0
v 1 1 0 0 0 1
v 0 1 0 1 1 1
vt 0 0
vt 1 0
vt 1 1
vt 0 1
usemtl painted  wood
f 1/1 2/2 \\
  3/3 4/4
usemtl painted  wood
v 0 0 1
v 1 0 1
v 1 1 1
o post
usemtl lost
f -3/1 -2/2 -1/3
l 1 2
"""
MTL = """\
newmtl painted  wood
Kd 0.2 0.3 0.4
Ns 100
map_Kd -s 2 3 1 -clamp on sub\\paint work.png
map_Bump -bm 0.5 wood_normal.png
map_Ks gone.png
Ks 0.04 0.04 0.04
"""


class TestObj:
    @pytest.fixture
    def gate(self, tmp_path):
        (tmp_path / "gate.obj").write_text(OBJ, encoding="utf-8")
        (tmp_path / "all of it.mtl").write_text(MTL)
        write_image(tmp_path / "sub" / "paint work.png", np.full((4, 4, 3), 99, np.uint8))
        write_image(tmp_path / "wood_normal.png", np.full((4, 4, 3), (128, 128, 255), np.uint8))
        return tmp_path / "gate.obj"

    def test_a_file_as_people_have_them(self, gate):
        """Several materials, n-gons, negative indices, backslashes, spaces, statements again, colours, lines that go on."""
        with pytest.warns(jq.QuiltWarning) as reported:
            mesh = jq.read_mesh(gate)
        assert mesh.part_names == ("gate", "post")
        assert [(part.first, part.last) for part in mesh.parts] == [(0, 2), (2, 3)]
        assert np.allclose(mesh.uv[np.argmin(np.abs(mesh.position).sum(axis=1))], [0, 1])  # v grows downwards here
        assert mesh.colour is not None
        words = " ".join(str(each.message) for each in reported)
        assert 'material "lost" is defined in no library' in words
        assert "gone.png, which is not there" in words
        assert '1 "l" statements passed over' in words
        paint = mesh.materials["painted  wood"]
        assert paint.scale == (2.0, 3.0)
        swatch = paint.swatch_source(tile=0.5).read()
        assert np.allclose(
            swatch.maps[R.DIFFUSE].values[0, 0], linear_from_srgb(99 / 255) * np.array([0.2, 0.3, 0.4]), atol=1e-3
        )
        assert "Kd 0.2 0.3 0.4 beside map_kd; the map is multiplied by it" in words
        assert paint.wrap == ("clamp", "clamp")
        assert set(paint.roles) >= {R.DIFFUSE, R.NORMAL, R.ROUGHNESS}
        assert swatch.maps[R.ROUGHNESS].values.ravel()[0] == pytest.approx((2 / 102) ** 0.25, abs=3e-3)
        assert np.allclose(mesh.texture_uv().uv[mesh.triangles[0]], mesh.uv[mesh.triangles[0]] * [2, 3] - [0, 2])

    @pytest.mark.parametrize(
        ("text", "words"),
        [
            ("v 0 0\n", "line 1: 3 numbers are needed"),
            ("v 0 0 x\n", "line 1: 'x' is no number"),
            ("v 0 0 0\nf 1 2 3\n", "line 2: a corner names vertex 2; the file has 1"),
            ("v 0 0 0\nf 0 1 1\n", "line 2: a corner names vertex 0"),
            ("v 0 0 0\nf 1 1\n", "none of them has three corners"),
            ("v 0 0 0\n", "no faces"),
            ("", "no faces"),
            ("v 0 0 0\nv 1 0 0\nv nan 1 0\nf 1 2 3\n", "no triangle is left"),
        ],
    )
    def test_a_broken_file_names_its_line(self, tmp_path, text, words):
        (tmp_path / "a.obj").write_text(text)
        with pytest.raises(jq.QuiltError, match=words):
            jq.read_mesh(tmp_path / "a.obj")

    def test_polygons_that_are_not_convex_are_cut_within(self):
        """An L keeps its area, whichever way it lies and turns."""
        shape = np.array([[0, 0], [2, 0], [2, 1], [1, 1], [1, 2], [0, 2]], float)
        for plane in range(3):
            for order in (shape, shape[::-1]):
                places = np.insert(order, plane, 0.5, axis=1)
                cut = cut_polygons(places, np.array([6]))[0]
                at = places[cut]
                out = np.cross(at[:, 1] - at[:, 0], at[:, 2] - at[:, 0])
                assert len(cut) == 4
                assert np.linalg.norm(out, axis=1).sum() / 2 == pytest.approx(3)
                assert np.linalg.norm(out.sum(axis=0)) / 2 == pytest.approx(3)  # none lies the wrong way round

    def test_units_and_axes_are_reported(self, gate):
        with warnings.catch_warnings():
            warnings.simplefilter("ignore", jq.QuiltWarning)
            plain, other = jq.read_mesh(gate), jq.read_mesh(gate, up="z", metres=0.01)
        assert np.allclose(other.position, 0.01 * plain.position[:, [0, 2, 1]] * [1, 1, -1])
        with pytest.raises(jq.QuiltError, match=r"read from \.obj, \.gltf"):
            jq.read_mesh(gate.with_suffix(".stl"))


class TestMaterials:
    """What an MTL file says becomes a swatch, whatever is missing."""

    def material(self, folder, text, name="m"):
        (folder / "a.obj").write_text("mtllib a.mtl\nv 0 0 0\nv 1 0 0\nv 0 1 0\nusemtl m\nf 1 2 3\n")
        (folder / "a.mtl").write_text(f"newmtl m\n{text}\n")
        with warnings.catch_warnings():
            warnings.simplefilter("ignore", jq.QuiltWarning)
            return jq.read_mesh(folder / "a.obj").materials[name]

    def test_plain_colours_stand_in_for_maps(self, tmp_path):
        made = self.material(tmp_path, "Kd 0.25 0.5 2.0\nKs 0.1\nPr 0.3")
        swatch = made.swatch_source().read()
        assert np.allclose(swatch.maps[R.DIFFUSE].values.ravel(), [0.25, 0.5, 1.0], atol=4e-3)
        assert R.SPECULAR not in made.roles  # the colour of a highlight is no reflectance
        assert np.allclose(swatch.maps[R.ROUGHNESS].values, 0.3, atol=4e-3)

    @pytest.mark.parametrize(
        ("name", "texel", "role"),
        [
            ("bumps.png", (90, 90, 90), R.HEIGHT),
            ("bumps.png", (128, 128, 255), R.NORMAL),
            ("a_normal.png", (9, 9, 9), R.HEIGHT),
            ("stone_height.png", (128, 128, 255), R.NORMAL),
            ("stone_height.png", (200, 90, 30), R.HEIGHT),
            ("stone_normal.png", (200, 90, 30), R.NORMAL),
        ],
    )
    def test_a_bump_map_is_height_or_normal_by_its_picture_and_else_by_its_name(self, tmp_path, name, texel, role):
        write_image(tmp_path / name, np.full((4, 4, 3), texel, np.uint8))
        assert role in self.material(tmp_path, f"Kd 1 1 1\nmap_bump -bm 0.3 {name}").roles

    @pytest.mark.parametrize(
        ("lines", "words"),
        [
            ("map_Kd -cc on p.png", "sets -cc on (colour correction) for map_kd, which is not supported"),
            ("map_Kd -mm 0.2 0.5 p.png", "sets -mm 0.2 (a base that is added)"),
            ("map_d -imfchan z p.png", "sets -imfchan z (depth)"),
            ("Kd 0 0 0\nmap_Kd p.png", "which would be black; the map is taken as it is"),
            ("disp -bm 3 p.png", "sets -bm 3 (a bump strength without a unit; set the relief in metres)"),
        ],
    )
    def test_what_is_not_read_of_a_map_is_reported(self, tmp_path, lines, words):
        write_image(tmp_path / "p.png", np.full((4, 4, 1), 90, np.uint8))
        (tmp_path / "m.mtl").write_text(f"newmtl m\n{lines}\n")
        _, notes = read_mtl("m.mtl", PathGuard(tmp_path))
        assert words in "\n".join(notes)

    def test_gains_channels_and_clamping_are_read(self, tmp_path):
        write_image(tmp_path / "p.png", np.array([[[200, 100, 50]]], np.uint8).repeat(8, 0).repeat(8, 1))
        write_image(tmp_path / "n.png", np.full((4, 4, 3), (200, 128, 233), np.uint8))
        made = self.material(tmp_path, "map_Kd p.png\nmap_Pr -imfchan g -mm 0 0.5 -clamp on p.png\nnorm -bm 2 n.png")
        maps = made.swatch_source().read().maps
        assert np.allclose(maps[R.ROUGHNESS].values, 0.5 * 100 / 255, atol=3e-3)
        x, _, z = maps[R.NORMAL].values[0, 0]
        assert x / z == pytest.approx(2 * (200 - 127.5) / (233 - 127.5), abs=0.03)
        assert self.material(tmp_path, "map_Kd -clamp on p.png").wrap == ("clamp", "clamp")

    def test_a_grey_bump_map_is_height(self, tmp_path):
        write_image(tmp_path / "b.png", np.full((4, 4), 90, np.uint8))
        assert R.HEIGHT in self.material(tmp_path, "bump b.png").roles

    def test_what_is_said_again_holds_and_names_are_found_whatever_their_case(self, tmp_path):
        for value, name in ((10, "one.png"), (20, "Two.PNG")):
            write_image(tmp_path / name.replace("PNG", "png"), np.full((2, 2, 3), value, np.uint8))
        made = self.material(tmp_path, "map_Kd one.png\nmap_Kd -o 0.1 0.2 C:\\art\\TWO.png")
        assert made.swatch_source().read().maps[R.DIFFUSE].texels[0, 0, 0] == 20

    def test_a_map_that_goes_missing_later_is_reported(self, tmp_path):
        write_image(tmp_path / "one.png", np.full((2, 2, 3), 9, np.uint8))
        made = self.material(tmp_path, "map_Kd one.png")
        (tmp_path / "one.png").unlink()
        with pytest.raises(jq.QuiltError, match=r'one\.png: material "m" names this map, and it is not there'):
            made.swatch_source()
        with pytest.raises(jq.QuiltError, match="names no map"):
            MeshMaterial(name="bare").swatch_source()

    def test_a_library_that_is_not_there_is_reported(self, tmp_path):
        (tmp_path / "a.obj").write_text("mtllib none.mtl\nv 0 0 0\nv 1 0 0\nv 0 1 0\nusemtl m\nf 1 2 3\n")
        with pytest.warns(jq.QuiltWarning) as reported:
            assert jq.read_mesh(tmp_path / "a.obj").materials == {}
        assert "names a library of materials, none.mtl, which is not there" in str(reported[0].message)


def gltf_of(tmp_path, change=lambda reported: None, data=None):
    """A triangle and a strip under a node that turns, moves and mirrors; written as glTF with its buffer beside it."""
    places = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0], [1, 1, 0]], np.float32)
    uv = (np.array([[0, 0], [1, 0], [0, 1], [1, 1]]) * 255).astype(np.uint8)
    index = np.array([0, 1, 2], np.uint16)
    raw = places.tobytes() + b"".join(bytes(row) + b"\0\0" for row in uv) + index.tobytes() + b"\0\0"
    reported = {
        "asset": {"version": "2.0"},
        "scene": 0,
        "scenes": [{"nodes": [0]}],
        "nodes": [
            {"name": "root", "translation": [1, 2, 3], "scale": [-2, 2, 2], "children": [1]},
            {"name": "leaf", "mesh": 0, "rotation": [0, 0, 0.70710678, 0.70710678]},
        ],
        "meshes": [
            {
                "name": "m",
                "primitives": [
                    {"attributes": {"POSITION": 0, "TEXCOORD_0": 1}, "indices": 2, "material": 0},
                    {"attributes": {"POSITION": 0, "TEXCOORD_0": 1}, "mode": 5},
                    {"attributes": {"POSITION": 0}, "mode": 1},
                ],
            }
        ],
        "materials": [
            {
                "name": "glaze",
                "pbrMetallicRoughness": {
                    "baseColorTexture": {
                        "index": 0,
                        "extensions": {"KHR_texture_transform": {"scale": [3, 4], "offset": [0.5, 0]}},
                    },
                    "roughnessFactor": 0.25,
                    "metallicFactor": 0,
                },
            }
        ],
        "textures": [{"source": 0}],
        "images": [{"uri": "base%20colour.png"}],
        "buffers": [{"uri": "mesh.bin", "byteLength": len(raw)}],
        "bufferViews": [
            {"buffer": 0, "byteLength": 48},
            {"buffer": 0, "byteOffset": 48, "byteLength": 16, "byteStride": 4},
            {"buffer": 0, "byteOffset": 64, "byteLength": 6},
        ],
        "accessors": [
            {"bufferView": 0, "componentType": 5126, "count": 4, "type": "VEC3"},
            {"bufferView": 1, "componentType": 5121, "normalized": True, "count": 4, "type": "VEC2"},
            {"bufferView": 2, "componentType": 5123, "count": 3, "type": "SCALAR"},
        ],
    }
    change(reported)
    (tmp_path / "mesh.bin").write_bytes(raw if data is None else data)
    write_image(tmp_path / "base colour.png", np.full((2, 2, 3), 77, np.uint8))
    (tmp_path / "mesh.gltf").write_text(json.dumps(reported))
    return tmp_path / "mesh.gltf"


class TestGltf:
    def test_nodes_strips_strides_and_materials(self, tmp_path):
        with pytest.warns(jq.QuiltWarning, match="points or lines passed over"):
            mesh = jq.read_mesh(gltf_of(tmp_path))
        assert mesh.part_names == ("leaf / 1", "leaf / 2")
        assert [part.last - part.first for part in mesh.parts] == [1, 2]
        # turned by a quarter about z, then mirrored and doubled, then moved: x -> (0, 2), y -> (2, 0)
        assert {tuple(p) for p in mesh.position[mesh.triangles[0]].round(4).tolist()} == {(1, 2, 3), (1, 4, 3), (3, 2, 3)}
        assert (np.einsum("td,td->t", face_normals(mesh), mesh.normal[mesh.triangles].mean(axis=1)) > 0).all()
        glaze = mesh.materials["glaze"]
        assert np.allclose(glaze.texture_uv(np.ones((1, 2), np.float32)), [[3.5, 4]])
        assert glaze.swatch_source().read().maps[R.DIFFUSE].texels[0, 0, 0] == 77

    def test_sparse_changes_fans_and_colours(self, tmp_path):
        """A fan of two triangles, whose last place a sparse accessor moves, with colours as bytes."""

        def change(reported):
            reported["accessors"][0]["sparse"] = {
                "count": 1,
                "indices": {"bufferView": 3, "componentType": 5123},
                "values": {"bufferView": 0},
            }
            reported["bufferViews"].append({"buffer": 0, "byteOffset": 66, "byteLength": 2})  # the index 1
            reported["accessors"].append(
                {"bufferView": 1, "componentType": 5121, "normalized": True, "count": 4, "type": "VEC3"}
            )
            reported["meshes"][0]["primitives"] = [{"attributes": {"POSITION": 0, "COLOR_0": 3}, "mode": 6}]
            reported["nodes"] = [{"mesh": 0}]

        with warnings.catch_warnings():
            warnings.simplefilter("ignore", jq.QuiltWarning)
            mesh = jq.read_mesh(gltf_of(tmp_path, change))
        assert len(mesh.triangles) == 1  # place 1 moved onto place 0, so the first of the fan has no area
        assert {tuple(p) for p in mesh.position.tolist()} == {(0, 0, 0), (0, 1, 0), (1, 1, 0)}
        assert mesh.colour.max() == 1
        assert mesh.uv is None

    def test_tangents_of_the_file_are_kept_and_turned_over_by_a_mirror(self, tmp_path):
        jq.export.write_mesh(jq.shapes.plane(), tmp_path / "a.glb")
        data = bytearray((tmp_path / "a.glb").read_bytes())
        size = struct.unpack_from("<I", data, 12)[0]
        document = json.loads(data[20 : 20 + size])
        document["nodes"][0]["scale"] = [-1, 1, 1]
        text = json.dumps(document).encode()
        text += b" " * (-len(text) % 4)
        rest = bytes(data[20 + size :])
        (tmp_path / "b.glb").write_bytes(
            struct.pack("<4sIII4s", b"glTF", 2, 20 + len(text) + len(rest), len(text), b"JSON") + text + rest
        )
        mesh = jq.read_mesh(tmp_path / "b.glb")
        assert np.allclose(mesh.tangent, [-1, 0, 0, -1])
        assert np.allclose(mesh.normal, [0, 1, 0])
        assert (face_normals(mesh)[:, 1] > 0).all()

    def test_images_within_the_file_become_a_swatch(self, tmp_path):
        import base64

        write_image(tmp_path / "rough.png", np.full((2, 2, 3), (0, 51, 0), np.uint8))
        inside = "data:image/png;base64," + base64.b64encode((tmp_path / "rough.png").read_bytes()).decode()

        def change(reported):
            reported["images"] = [{"uri": inside, "mimeType": "image/png"}]
            reported["materials"][0]["pbrMetallicRoughness"]["metallicRoughnessTexture"] = {"index": 0}
            reported["meshes"][0]["primitives"] = reported["meshes"][0]["primitives"][:1]

        with pytest.warns(jq.QuiltWarning, match="lays its maps differently"):
            material = jq.read_mesh(gltf_of(tmp_path, change)).materials["glaze"]
        with pytest.raises(jq.QuiltError, match="name a folder to write them to"):
            material.swatch_source()
        swatch = material.swatch_source(folder=tmp_path / "taken").read()
        assert swatch.maps[R.ROUGHNESS].values.ravel()[0] == pytest.approx(0.25 * 0.2)  # the factor counts

    def test_what_is_written_is_read_again(self, tmp_path):
        jar = jq.shapes.jar(0.6, around=12, rings=14)
        for suffix in ("glb", "obj"):
            again = jq.read_mesh(jq.export.write_mesh(jar, tmp_path / f"jar.{suffix}"))
            assert np.allclose(again.position[again.triangles], jar.position[jar.triangles], atol=1e-6)
            assert np.allclose(again.uv[again.triangles], jar.uv[jar.triangles], atol=1e-6)
            assert np.allclose(again.tangent[again.triangles], jar.tangent[jar.triangles], atol=2e-3)
        with pytest.raises(jq.QuiltError, match=r"as \.obj or \.glb"):
            jq.export.write_mesh(jar, tmp_path / "jar.stl")

    @pytest.mark.parametrize(
        ("change", "words"),
        [
            (lambda t: t["buffers"][0].update(uri="none.bin"), "none.bin, which is not there"),
            (lambda t: t["buffers"][0].update(byteLength=999), "should hold 999 bytes"),
            (lambda t: t["bufferViews"][0].update(byteLength=4000), "reaches beyond its buffer"),
            (lambda t: t["bufferViews"][0].update(byteOffset=-48), "begins before its buffer"),
            (lambda t: t["accessors"][0].update(count=99), "reaches beyond its buffer view"),
            (lambda t: t["accessors"][1].update(bufferView=9), r"bufferViews\[9\] is named and not there"),
            (lambda t: t["meshes"][0]["primitives"][0].update(indices=1), "are no whole numbers"),
            (lambda t: t["accessors"][0].update(count=2), "names vertex 2; there are 2"),
            (lambda t: t["nodes"][1].update(mesh=4), r"meshes\[4\] is named and not there; there are 1"),
            (lambda t: t["nodes"][1].update(children=[0]), "its own ancestor"),
            (lambda t: t["nodes"][0].update(scale=[0, 1, 1]), "flattened by its node"),
            (lambda t: t["accessors"][0].update(componentType=1), "no sound glTF file"),
            (lambda t: t["meshes"][0].update(primitives=[]), "no faces"),
            (lambda t: t.update(extensionsRequired=["KHR_draco_mesh_compression"]), "needs KHR_draco_mesh_compression"),
            (lambda t: t["asset"].update(version="1.0"), "no glTF file of version 2"),
        ],
    )
    def test_a_broken_file_says_what_is_missing(self, tmp_path, change, words):
        with pytest.raises(jq.QuiltError, match=words), warnings.catch_warnings():
            warnings.simplefilter("ignore", jq.QuiltWarning)
            jq.read_mesh(gltf_of(tmp_path, change))

    @pytest.mark.parametrize("cut", [3, 11, 19, 60, 400])
    def test_a_file_that_is_cut_short_is_refused(self, tmp_path, cut):
        jq.export.write_mesh(jq.shapes.box(), tmp_path / "a.glb")
        (tmp_path / "a.glb").write_bytes((tmp_path / "a.glb").read_bytes()[:cut])
        with pytest.raises(jq.QuiltError, match=r"a\.glb"):
            jq.read_mesh(tmp_path / "a.glb")


def ply_of(kind, order):
    head = (
        f"ply\nformat {kind} 1.0\ncomment made up\nelement vertex 4\nproperty float x\nproperty float y\n"
        "property double z\nproperty uchar red\nproperty uchar green\nproperty uchar blue\nelement face 2\n"
        "property list uchar int vertex_indices\nend_header\n"
    )
    colours = [(255, 0, 0), (0, 255, 0), (0, 0, 255), (255, 255, 255)]
    faces = [(0, 1, 2), (0, 1, 2, 3)]
    if not order:
        rows = [" ".join(map(str, (*p, *c))) for p, c in zip(SQUARE, colours, strict=True)]
        rows += [" ".join(map(str, (len(f), *f))) for f in faces]
        return head.encode() + "\n".join(rows).encode()
    body = b"".join(struct.pack(order + "ffdBBB", *p, *c) for p, c in zip(SQUARE, colours, strict=True))
    body += b"".join(struct.pack(f"{order}B{len(f)}i", len(f), *f) for f in faces)
    return head.encode() + body


class TestPly:
    @pytest.mark.parametrize(("kind", "order"), [("ascii", ""), ("binary_little_endian", "<"), ("binary_big_endian", ">")])
    def test_vertices_colours_and_polygons(self, tmp_path, kind, order):
        (tmp_path / "a.ply").write_bytes(ply_of(kind, order))
        mesh = jq.read_mesh(tmp_path / "a.ply")
        assert len(mesh.triangles) == 3
        assert np.allclose(mesh.colour[np.argmax(mesh.position[:, 0] - mesh.position[:, 1])], [0, 1, 0, 1])
        assert mesh.uv is None
        assert np.allclose(mesh.normal, [0, 0, 1])

    @pytest.mark.parametrize(
        ("data", "words"),
        [
            (b"ply\nformat ascii 1.0\n", "its header has no end"),
            (b"solid", "no PLY file"),
            (ply_of("binary_little_endian", "<")[:-9], "cut short"),
            (ply_of("ascii", "")[:-12], "is not what the header tells"),
            (ply_of("ascii", "").replace(b"3 0 1 2", b"3 0 1 9"), "face 0 names vertex 9; there are 4"),
            (ply_of("ascii", "").replace(b"uchar red", b"colour red"), "the header cannot say"),
            (ply_of("ascii", "").replace(b"float x", b"float w"), "vertices need x, y and z"),
        ],
    )
    def test_a_broken_file_is_refused(self, tmp_path, data, words):
        (tmp_path / "a.ply").write_bytes(data)
        with pytest.raises(jq.QuiltError, match=words):
            jq.read_mesh(tmp_path / "a.ply")


def laid_out(mesh):
    """A made shape with its uv squeezed into 0..1."""
    low = mesh.uv.min(axis=0)
    return jq.Mesh.of(
        mesh.position, mesh.triangles, uv=0.05 + 0.9 * (mesh.uv - low) / np.ptp(mesh.uv, axis=0), normal=mesh.normal
    )


@pytest.fixture(scope="module")
def arrays():
    return jq.pack([made_swatch("a", 1, tile=0.3), made_swatch("b", 2, tile=0.2)], side=16)


class TestUvLayout:
    def test_no_texel_that_a_triangle_touches_is_missed(self):
        """Against the area that clipping each triangle to each texel's square gives."""
        from surfaces import missed_texels

        missed, touched = missed_texels(60, side=32, seed=1)
        assert (missed, touched > 500) == (0, True)

    def test_rows_are_the_whole_and_points_lie_on_the_mesh(self):
        layout = jq.UvCanvas(laid_out(jq.shapes.jar(0.6, around=24, rings=20)), (50, 70))
        whole = layout.block(Region.whole(layout.texels)).pieces[0]
        parts = [layout.block(region).pieces[0] for region in layout.blocks(13 * 70)]
        assert np.array_equal(np.concatenate([part.where.each for part in parts]), whole.where.each)
        assert np.array_equal(np.concatenate([part.triangles for part in parts]), whole.triangles)
        points = whole.points
        corners = layout.mesh.position[layout.mesh.triangles[whole.triangles]].astype(float)
        out = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
        off = np.einsum("nd,nd->n", points.position - corners[:, 0], out) / np.linalg.norm(out, axis=1)
        assert np.abs(off).max() < 1e-6
        assert np.abs(np.einsum("nd,nd->n", points.normal, points.tangent[:, :3])).max() < 1e-5
        one = np.einsum("nsd,ngd->nsg", points.steps, points.uv_gradient)  # a step to the next texel is that much of u, v
        assert np.allclose(one, np.broadcast_to(np.diag([1 / 70, 1 / 50]), one.shape), atol=1e-5)

    def test_what_cannot_be_baked_into_is_refused(self):
        with pytest.raises(jq.QuiltError, match="has no uv"):
            jq.UvCanvas(jq.Mesh.of(SQUARE, [[0, 1, 2]]), 16)
        with pytest.raises(
            jq.QuiltError,
            match=r"from \(0, 0\) to \(2, 2\), .*give it a layout with unwrap = true",
        ):
            jq.UvCanvas(jq.shapes.plane((2, 2)), 16)
        with pytest.raises(jq.QuiltError, match="no triangle has any extent"):
            jq.UvCanvas(jq.Mesh.of(SQUARE, [[0, 1, 2]], uv=np.zeros((4, 2))), 16)

    def test_a_large_mesh_is_unwrapped_in_pieces_and_keeps_its_triangles(self, monkeypatch):
        """In their order, since parts go by it; and with none on another."""
        monkeypatch.setattr("jagged_quilt.meshes.unwrap._LARGE", 100)
        monkeypatch.setattr("jagged_quilt.meshes.unwrap._PIECE", 200)
        jar, said = jq.shapes.jar(1.0, around=32, rings=24), []
        bare = jq.Mesh.of(jar.position, jar.triangles, smooth=180)
        made = jq.shapes.unwrap(bare, texels=256, progress=lambda *reported: said.append(reported))
        assert np.array_equal(made.position[made.triangles], bare.position[bare.triangles])
        canvas = jq.UvCanvas(made, 256, padding=0)
        assert [canvas.block(each).overlaps for each in canvas.blocks(1 << 20)] == [0]
        assert canvas.without_extent == 0
        assert said == [(f"unwrapping {len(bare.triangles):,} triangles", 0, 0)]

    def test_unwrapping_gives_uv_without_overlaps(self, arrays):
        bare = jq.Mesh.of(jq.shapes.jar(0.6, around=16, rings=12).position, jq.shapes.jar(0.6, around=16, rings=12).triangles)
        made = jq.shapes.unwrap(bare, texels=128, padding=4)
        assert made.uv is not None
        assert made.area == pytest.approx(bare.area, rel=1e-5)
        shape = jq.shapes.jar(0.6, around=16, rings=12)
        assert np.allclose(made.position, shape.position[made.source])
        baked = jq.bake(jq.UvCanvas(made, 128), [jq.Layer("a", jq.Triplanar(4))], arrays)
        assert baked.cover.overlaps == 0
        assert baked.cover.covered.mean() > 0.3


class TestBakeMesh:
    def test_tangent_space_normals_read_back_are_the_worlds(self, arrays):
        """PathGuard half a degree on average, for a bumpy mesh, with the mesh's own tangents."""
        ball = jq.shapes.sphere(1.0, around=48, down=24)
        dents = 1 + 0.1 * np.sin(7 * ball.position[:, :1]) * np.cos(9 * ball.position[:, 1:2])
        mesh = laid_out(jq.Mesh.of(ball.position * dents, ball.triangles, uv=ball.uv))
        layers = [jq.Layer("a", jq.Triplanar(4))]
        tangent, world = (jq.bake(jq.UvCanvas(mesh, 128), layers, arrays, normals=space) for space in ("tangent", "world"))
        layout = jq.UvCanvas(mesh, 128)
        piece = layout.block(Region.whole(layout.texels)).pieces[0]
        points = piece.points
        decoded = [each["normal"].reshape(-1, 3)[piece.where.each] / 127.5 - 1 for each in (tangent, world)]
        bitangent = np.cross(points.normal, points.tangent[:, :3]) * points.tangent[:, 3:]
        x, y, z = decoded[0].T
        back = x[:, None] * points.tangent[:, :3] + y[:, None] * bitangent + z[:, None] * points.normal
        cosine = np.einsum("nd,nd->n", back, decoded[1]) / np.linalg.norm(back, axis=1) / np.linalg.norm(decoded[1], axis=1)
        assert np.degrees(np.arccos(np.clip(cosine, -1, 1))).mean() < 0.5

    @pytest.mark.parametrize("mips", [1, 2, 3])
    def test_padding_keeps_the_background_out_of_mips(self, mips):
        """A white mesh stays white in every texel of a mip that it touches."""
        paint = jq.TextureMap(role=R.DIFFUSE, texels=np.full((1, 1, 3), 255, np.uint8))
        white = jq.Swatch(name="w", tile=1, relief=1, maps={R.DIFFUSE: paint})
        mesh = jq.Mesh.of(SQUARE, [[0, 1, 2]], uv=[[0.21, 0.33], [0.77, 0.4], [0.52, 0.81], [0, 0]])
        baked = jq.bake(jq.UvCanvas(mesh, 64, padding=2**mips), [jq.Layer("w")], jq.pack([white], side=1))
        small = baked["diffuse"][..., 0].reshape(64 >> mips, 1 << mips, 64 >> mips, 1 << mips)
        touched = baked.cover.covered.reshape(small.shape).any(axis=(1, 3))
        assert small.min(axis=(1, 3))[touched].min() == 255
        assert baked["diffuse"].min() == 0  # far away nothing was painted

    def test_parts_have_their_own_layers_and_overlaps_are_reported(self, arrays):
        left = jq.Mesh.of(SQUARE, [[0, 1, 2], [0, 2, 3]], uv=np.array(SQUARE)[:, :2] * 0.4 + 0.05, name="left")
        right = jq.Mesh.of(SQUARE, [[0, 1, 2], [0, 2, 3]], uv=np.array(SQUARE)[:, :2] * 0.4 + [0.55, 0.05], name="right")
        both = jq.Mesh.joined([left, right])
        layers = {"left": [jq.Layer("a", jq.Triplanar(4))], "right": [jq.Layer("b", jq.Triplanar(4))]}
        one = jq.bake(jq.UvCanvas(both, 64, padding=2), layers, arrays)
        assert one.cover.overlaps == 0
        for name in ("left", "right"):
            own = jq.bake(jq.UvCanvas(both.part(name), 64, padding=2), layers[name], arrays)
            at = own.cover.covered
            assert np.array_equal(one["diffuse"][at], own["diffuse"][at])
        with pytest.raises(jq.QuiltError, match="layers are needed for each of the parts"):
            jq.bake(jq.UvCanvas(both, 64), {"left": layers["left"]}, arrays)
        again = jq.Mesh.joined([left, jq.Mesh.of(SQUARE, [[0, 1, 2]], uv=left.uv[left.source.argsort()], name="over")])
        with pytest.warns(jq.QuiltWarning, match=r'texels lie in more than one triangle .*"left" on "over"'):
            assert jq.bake(jq.UvCanvas(again, 64), [jq.Layer("a")], arrays).cover.overlaps > 100

    def test_bytes_do_not_depend_on_threads(self, arrays):
        mesh = laid_out(jq.shapes.jar(0.6, around=24, rings=20))
        layers = [jq.Layer("a", jq.Triplanar(4)), jq.Layer("b", jq.Uv(metres=0.5), mask=jq.Curvature("ridges", 0.1))]
        one, two = (jq.bake(jq.UvCanvas(mesh, 96), layers, arrays, work=jq.Work(threads=n)) for n in (1, 2))
        assert all(np.array_equal(one[role], two[role]) for role in jq.SURFACE_ROLES)

    def test_a_weight_map_by_texel_bakes_as_the_masks_do(self, arrays):
        mesh = laid_out(jq.shapes.sphere(1.0))
        layers = [jq.Layer("a", softness=1), jq.Layer("b", softness=1, mask=jq.HeightBand(0, 2, fade=0.6))]
        weights = jq.weigh(jq.UvCanvas(mesh, 256), layers)
        assert (weights.weights.sum(axis=2, dtype=int) == 255).all()
        by_map, by_masks = (jq.bake(jq.UvCanvas(mesh, 128), layers, arrays, weights=each) for each in (weights, None))
        apart = np.abs(by_map["diffuse"].astype(int) - by_masks["diffuse"])[by_map.cover.covered]
        assert np.percentile(apart, 99) <= 4
        with pytest.raises(jq.QuiltError, match="weigh again"):
            jq.bake(jq.UvCanvas(mesh, 32), layers[:1], arrays, weights=weights)


@pytest.mark.skipif(not shutil.which("node"), reason="needs a node")
def test_the_kept_tangents_are_what_the_independent_implementation_says():
    """Where the node has it (npm install mikktspace)."""
    code = (
        "const m=require('mikktspace');const d=JSON.parse(require('fs').readFileSync(0));"
        "console.log(JSON.stringify(Array.from(m.generateTangents(...d.map(x=>new Float32Array(x))))))"
    )
    kept = kept_tangents()
    corners = kept["hills triangles"].astype(int).ravel()
    uv = kept["hills uv"][corners] * [1, -1] + [0, 1]
    given_ = [kept[f"hills {key}"][corners].ravel().tolist() for key in ("position", "normal")] + [uv.ravel().tolist()]
    run = subprocess.run(["node", "-e", code], input=json.dumps(given_), capture_output=True, text=True, check=False)
    if run.returncode:
        pytest.skip("this node has no mikktspace")
    assert np.allclose(np.array(json.loads(run.stdout)).reshape(-1, 4), kept["hills tangents"], atol=1e-5)


class TestRefined:
    def test_edges_are_cut_and_the_shape_stays(self):
        box = jq.shapes.box((4.0, 1.0, 0.2))
        fine = refined(box, 0.3)
        corners = fine.position[fine.triangles].astype(np.float64)
        lengths = np.linalg.norm(corners - np.roll(corners, -1, axis=1), axis=2)
        assert lengths.max() <= 0.3
        assert np.isclose(fine.area, box.area)
        normal = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
        normal /= np.linalg.norm(normal, axis=1, keepdims=True)
        assert np.allclose(normal, fine.normal[fine.triangles[:, 0]], atol=1e-5)
        edges = np.sort(np.stack([fine.triangles, np.roll(fine.triangles, -1, axis=1)], axis=-1), axis=-1).reshape(-1, 2)
        ends = np.unique(edges, axis=0, return_counts=True)
        open_edges = fine.position[ends[0][ends[1] == 1]].astype(np.float64)
        whole = np.linalg.norm(open_edges[:, 0] - open_edges[:, 1], axis=1).sum()
        assert np.isclose(whole, 2 * 4 * (4.0 + 1.0 + 0.2))  # the rims of its six sides, and no crack between triangles

    def test_parts_stay_and_there_is_an_end(self):
        two = jq.Mesh.joined([jq.shapes.box((1.0, 1.0, 1.0)), jq.shapes.box((2.0, 1.0, 1.0)).placed(at=(4, 0, 0))])
        fine = refined(two, 0.1, most=500)
        assert len(fine.position) <= 500
        assert [part.name for part in fine.parts] == [part.name for part in two.parts]
        for name in two.part_names:
            assert np.isclose(fine.part(name).area, two.part(name).area)
