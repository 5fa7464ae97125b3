"""Mesh files that nobody prepared: names twice, uv on some faces, tiled uv, odd numbers, materials as they are meant."""

import json
import warnings

import numpy as np
import pytest

import jagged_quilt as jq
from conftest import jquilt
from jagged_quilt.foundation.colour import linear_from_srgb, srgb_from_linear
from jagged_quilt.images import read_image, write_image
from jagged_quilt.maps.roles import MapRole as R
from jagged_quilt.meshfiles.polygons import cut_polygons
from jagged_quilt.results.results import Results
from jagged_quilt.surfaces.mesh_fields import MeshFields
from jagged_quilt.weights.weigher import Weigher

SQUARE = np.array([[0, 0, 0], [1, 0, 0], [1, 0, 1], [0, 0, 1]], np.float32)
CORNERS = np.array([0, 2, 1, 0, 3, 2], np.uint16)
UV = SQUARE[:, [0, 2]]


def quietly(read, *given, **how):
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", jq.QuiltWarning)
        return read(*given, **how)


def notes_of(read, *given, **how):
    """What a call gives, and what it tells."""
    with warnings.catch_warnings(record=True) as reported:
        warnings.simplefilter("always", jq.QuiltWarning)
        found = read(*given, **how)
    return found, "\n".join(str(each.message) for each in reported)


def gltf(folder, meshes, more=lambda add: {}, normalized=(), **reported):
    """Write a glTF file: meshes as (name, material or None, attributes by name), each a square moved along x."""
    data, views, accessors, made = bytearray(), [], [], []

    def add(values, kind):
        code = {"float32": 5126, "uint16": 5123, "uint8": 5121}[values.dtype.name]
        views.append({"buffer": 0, "byteOffset": len(data), "byteLength": values.nbytes})
        accessors.append({"bufferView": len(views) - 1, "componentType": code, "count": len(values), "type": kind})
        data.extend(values.tobytes() + b"\0" * (-values.nbytes % 4))
        return len(accessors) - 1

    index = add(CORNERS, "SCALAR")
    for place, (name, material, attributes) in enumerate(meshes):
        given = {"POSITION": SQUARE + np.float32([2 * place, 0, 0]), **attributes}
        primitive = {"indices": index, "attributes": {}}
        for key, values in given.items():
            stored = np.asarray(values, np.float32 if np.asarray(values).dtype.kind == "f" else None)
            primitive["attributes"][key] = add(stored, f"VEC{np.shape(values)[1]}")
            if key in normalized:
                accessors[primitive["attributes"][key]]["normalized"] = True
        if material is not None:
            primitive["material"] = material
        made.append({"name": name, "primitives": [primitive]})
    reported |= more(add)
    reported = {
        "asset": {"version": "2.0"},
        "scenes": [{"nodes": list(range(len(made)))}],
        "nodes": [{"mesh": number} for number in range(len(made))],
        "meshes": made,
        "buffers": [{"uri": "shape.bin", "byteLength": len(data)}],
        "bufferViews": views,
        "accessors": accessors,
        **reported,
    }
    (folder / "shape.bin").write_bytes(data)
    (folder / "shape.gltf").write_text(json.dumps(reported))
    return folder / "shape.gltf"


class TestNames:
    def test_parts_and_materials_of_one_name_are_kept_distinct(self, tmp_path):
        """By their index, so that no part gets the maps of another; even where the new name is taken."""
        for number in range(3):
            write_image(tmp_path / f"{number}.png", np.full((2, 2, 3), 40 * number, np.uint8))
        materials = [
            {"name": "paint", "pbrMetallicRoughness": {"baseColorTexture": {"index": n}, "metallicFactor": 0}} for n in range(3)
        ]
        meshes = [(name, n, {"TEXCOORD_0": UV}) for n, name in enumerate(["posts", "posts 2", "posts"])]
        images = [{"uri": f"{n}.png"} for n in range(3)]
        textures = [{"source": n} for n in range(3)]
        mesh = jq.read_mesh(gltf(tmp_path, meshes, materials=materials, images=images, textures=textures))
        assert mesh.part_names == ("posts", "posts 2", "posts 3")
        assert list(mesh.materials) == ["paint", "paint 2", "paint 3"]
        for number, part in enumerate(mesh.parts):
            texels = mesh.materials[part.material].swatch_source().read().maps[R.DIFFUSE].texels
            assert texels[0, 0, 0] == 40 * number


OBJ = """mtllib none
v 0 0 0
v 1 0 0
v 1 0 1
v 0 0 1
v 0 1 0
v 1 1 0
vt 0 0
vt 0.5 0
vt 0.5 1
vt 0 1
f 1/1 4/4 3/3 2/2
f 1 2 6 5
"""


class TestUvOnSomeFaces:
    @pytest.fixture
    def half(self, tmp_path):
        (tmp_path / "half.obj").write_text(OBJ.replace("mtllib none\n", ""))
        return tmp_path / "half.obj"

    def test_faces_keep_what_they_have_and_the_rest_is_reported(self, half):
        mesh, reported = notes_of(jq.read_mesh, half)
        assert "1 of 2 faces have no uv" in reported
        assert mesh.bare.tolist() == [False, False, True, True]
        assert np.ptp(mesh.uv[mesh.triangles[:2]].reshape(-1, 2), axis=0).tolist() == [0.5, 1]

    def test_the_rest_is_unwrapped_alone(self, half):
        """In what the others leave free; those stay where they are, and their tangents too."""
        mesh = quietly(jq.read_mesh, half)
        whole = jq.shapes.unwrap(mesh, texels=256, padding=4, faces="bare")
        assert not whole.bare.any()
        assert whole.layout is None
        assert np.array_equal(whole.uv[whole.triangles[:2]], mesh.uv[mesh.triangles[:2]])
        assert np.array_equal(whole.tangent[whole.triangles[:2]], mesh.tangent[mesh.triangles[:2]])
        assert whole.uv[whole.triangles[2:]].reshape(-1, 2)[:, 0].min() > 0.5  # the others fill the left half
        arrays = jq.pack([plain_swatch()], side=16)
        baked, reported = notes_of(jq.bake, jq.UvCanvas(whole, 128), [jq.Layer("plain")], arrays)
        assert baked.cover.overlaps == baked.cover.without_extent == 0, reported
        full = jq.Mesh.of(SQUARE, CORNERS.reshape(-1, 3).astype(int), uv=UV)
        both = quietly(
            jq.Mesh.joined,
            [full, quietly(jq.Mesh.of, SQUARE + np.float32([0, 1, 0]), CORNERS.reshape(-1, 3).astype(int), uv=0 * UV)],
        )
        with pytest.raises(jq.QuiltError, match="leave a square of 0 texels free"):
            jq.shapes.unwrap(both, faces="bare")

    def test_parts_without_uv_stand_beside_parts_with(self, tmp_path):
        mesh, reported = notes_of(jq.read_mesh, gltf(tmp_path, [("a", None, {"TEXCOORD_0": UV}), ("b", None, {})]))
        assert "2 of 4 faces have no uv" in reported
        assert mesh.bare.tolist() == [False, False, True, True]


def plain_swatch(name="plain"):
    image = np.full((16, 16, 3), 128, np.uint8)
    return jq.Swatch(name=name, tile=1.0, relief=0.05, maps={R.DIFFUSE: jq.TextureMap(role=R.DIFFUSE, texels=image)})


def waves(side):
    """A colour map and a normal map without hard edges that repeat: what a look-up by hand gives is plain to say."""
    v, u = np.mgrid[0:side, 0:side] * (2 * np.pi / side)
    colour = 0.5 + 0.4 * np.stack([np.sin(u), np.cos(2 * v), np.sin(u + v)], axis=-1)
    slopes = 0.5 * np.stack([np.cos(2 * u), np.sin(u - v)], axis=-1)
    normal = np.concatenate([slopes, np.ones((side, side, 1))], axis=-1)
    normal /= np.linalg.norm(normal, axis=-1, keepdims=True)
    return np.rint(255 * colour).astype(np.uint8), np.rint(65535 * (normal + 1) / 2).astype(np.uint16)


def looked_up(image, uv):
    """Bilinear, repeating, in float64."""
    height, width = image.shape[:2]
    x, y = uv[:, 0] * width - 0.5, uv[:, 1] * height - 0.5
    column, row = np.floor(x).astype(int), np.floor(y).astype(int)
    fx, fy = (x - column)[:, None], (y - row)[:, None]
    at = lambda r, c: image[r % height, c % width]
    above = at(row, column) * (1 - fx) + at(row, column + 1) * fx
    return above * (1 - fy) + (at(row + 1, column) * (1 - fx) + at(row + 1, column + 1) * fx) * fy


def to_world(vectors, normal, tangent):
    unit = lambda rows: rows / np.linalg.norm(rows, axis=1, keepdims=True)
    normal = unit(normal)
    along = unit(tangent[:, :3] - normal * (tangent[:, :3] * normal).sum(axis=1, keepdims=True))
    across = np.cross(normal, along) * tangent[:, 3:]
    return unit(vectors[:, :1] * along + vectors[:, 1:2] * across + vectors[:, 2:] * normal)


@pytest.fixture(scope="module")
def jar(tmp_path_factory):
    """A jar whose uv go 3 times around and beyond 0 to 1, one half of it mirrored onto the other."""
    folder = tmp_path_factory.mktemp("jar")
    shape = jq.shapes.jar(0.6, around=32, rings=24)
    low, span = shape.uv.min(axis=0), np.ptp(shape.uv, axis=0)
    uv = (shape.uv - low) / span * [3, 2] - [0.25, 0.5]
    uv[:, 0] = np.where(uv[:, 0] > 1.25, 2.5 - uv[:, 0], uv[:, 0])
    colour, normal = waves(64)
    write_image(folder / "wave.png", colour)
    write_image(folder / "wave_normal.png", normal)
    jq.export.write_mesh(quietly(jq.Mesh.of, shape.position, shape.triangles, uv=uv, normal=shape.normal), folder / "jar.obj")
    text = (folder / "jar.obj").read_text().replace("o mesh", "mtllib jar.mtl\no mesh\nusemtl glaze")
    (folder / "jar.obj").write_text(text)
    (folder / "jar.mtl").write_text("newmtl glaze\nmap_Kd wave.png\nnorm wave_normal.png\n")
    (folder / "jar.quilt.toml").write_text(
        '[arrays]\nside = 64\n[bake]\nfilter = "bilinear"\n[[mesh]]\nname = "jar"\nfile = "jar.obj"\n'
        'unwrap = true\ntexels = 512\n[[mesh.layer]]\nswatch = "own"\n'
    )
    return folder / "jar.quilt.toml"


class TestTransfer:
    """A mesh's own materials, carried over into another layout."""

    def test_colours_and_normals_are_those_of_a_direct_look_up(self, jar):
        """At 10,000 places: within 2 of 255, and within 1 degree through both tangent frames."""
        quilt = jq.read_quilt(jar)
        made = jq.run(quilt, "bake jar")["bake jar"]
        mesh = quilt.meshes[0]
        assert mesh.uv.max() > 1.2
        assert (mesh.layout.min(), mesh.layout.max()) >= (0, 0.9)
        texels, which, share = self.places(mesh, 512, 10_000)
        corners = mesh.triangles[which]
        mixed = lambda values: np.einsum("nk,nkd->nd", share, values.astype(float)[corners])
        colour, bumps = waves(64)
        uv, row, column = mixed(mesh.uv), texels // 512, texels % 512
        wanted = 255 * srgb_from_linear(looked_up(linear_from_srgb(colour / 255), uv))
        baked = read_image(made.folder / "diffuse.png")[row, column]
        assert np.abs(baked - wanted).max() <= 2
        hand = mesh.tangent[corners[:, 0], 3:]
        own = np.column_stack([mixed(mesh.tangent)[:, :3], hand])
        laid = np.column_stack([mixed(mesh.layout_tangent)[:, :3], mesh.layout_tangent[corners[:, 0], 3:]])
        meant = to_world(looked_up(bumps / 65535 * 2 - 1, uv), mixed(mesh.normal), own)
        stored = read_image(made.folder / "normal.png")[row, column] / 255 * 2 - 1
        found = to_world(stored, mixed(mesh.normal), laid)
        angle = np.degrees(np.arccos(np.clip((meant * found).sum(axis=1), -1, 1)))
        assert angle.max() < 1, np.sort(angle)[-5:]

    @staticmethod
    def places(mesh, side, count):
        """Texels whose centres lie within a triangle of the layout, by hand: the texel, the triangle, its corners' shares."""
        rng = np.random.default_rng(3)
        which = rng.integers(0, len(mesh.triangles), 60 * count)
        at = mesh.layout.astype(float)[mesh.triangles[which]]
        within = np.einsum("nk,nkd->nd", rng.dirichlet((1, 1, 1), len(which)), at)
        texel = np.floor(within * side).astype(int)
        centre = (texel + 0.5) / side
        e, f, g = at[:, 1] - at[:, 0], at[:, 2] - at[:, 0], centre - at[:, 0]
        area = e[:, 0] * f[:, 1] - e[:, 1] * f[:, 0]
        b = (g[:, 0] * f[:, 1] - g[:, 1] * f[:, 0]) / area
        c = (e[:, 0] * g[:, 1] - e[:, 1] * g[:, 0]) / area
        good = np.flatnonzero((b > 1e-3) & (c > 1e-3) & (b + c < 1 - 1e-3))[:count]
        assert len(good) == count
        return (texel[:, 1] * side + texel[:, 0])[good], which[good], np.column_stack([1 - b - c, b, c])[good]

    def test_the_maps_come_with_the_mesh_that_they_are_for(self, jar):
        folder = jq.run(jq.read_quilt(jar), "bake jar")["bake jar"].folder
        alone = jq.read_mesh(folder / "mesh.glb")
        mesh = jq.read_quilt(jar).meshes[0]
        assert np.allclose(alone.uv, mesh.layout)
        assert np.allclose(alone.tangent, mesh.layout_tangent, atol=1e-6)
        jq.export.write_mesh(mesh, folder / "both.glb")
        again = jq.read_mesh(folder / "both.glb", second_uv=True)
        assert np.allclose(again.uv[np.argsort(again.source)][: len(mesh.uv)], mesh.uv)
        assert again.layout.min() >= 0
        assert again.layout.max() <= 1

    def test_a_placed_and_mirrored_mesh_keeps_both_frames(self, jar):
        mesh = jq.read_quilt(jar).meshes[0]
        turned = mesh.placed(np.diag([-2.0, 2, 2, 1]))
        assert np.array_equal(turned.layout_tangent[:, 3], -mesh.layout_tangent[:, 3])
        assert np.allclose(turned.by_layout().tangent[:, 0], -mesh.layout_tangent[:, 0], atol=1e-6)


class TestQuiltFile:
    @pytest.fixture
    def two(self, tmp_path):
        """Two squares, one painted red by its material, the other blue; the second set of uv lies within 0..1."""
        materials = [
            {"name": name, "pbrMetallicRoughness": {"baseColorFactor": [*colour, 1], "metallicFactor": 0}}
            for name, colour in (("red", (1, 0, 0)), ("blue", (0, 0, 1)))
        ]
        halves = [UV * np.float32([0.4, 0.9]) + np.float32([0.5 * n + 0.05, 0.05]) for n in range(2)]
        meshes = [
            (n, n_, {"TEXCOORD_0": 3 * UV, "TEXCOORD_1": half}) for n, n_, half in zip("ab", range(2), halves, strict=True)
        ]
        gltf(tmp_path, meshes, materials=materials)
        return tmp_path

    def write(self, folder, keys, layers='[[mesh.layer]]\nswatch = "own"\n', more=""):
        path = folder / "two.quilt.toml"
        path.write_text(
            f'{more}[arrays]\nside = 16\n[[mesh]]\nname = "two"\nfile = "shape.gltf"\ntexels = 64\n{keys}\n{layers}'
        )
        return path

    def test_own_materials_go_into_the_second_set(self, two):
        made = jq.run(jq.read_quilt(self.write(two, 'into = "second uv"')), "bake two")["bake two"]
        baked = read_image(made.folder / "diffuse.png")
        assert baked[32, 16].tolist() == [255, 0, 0]
        assert baked[32, 48].tolist() == [0, 0, 255]

    def test_one_part_shows_its_own_and_the_other_a_swatch(self, two):
        write_image(two / "sand" / "sand_diffuse.png", np.full((16, 16, 3), 99, np.uint8))
        layers = '[[mesh.layer]]\nswatch = "own"\npart = "a"\n[[mesh.layer]]\nswatch = "sand"\n'
        sand = '[[swatch]]\nname = "sand"\nfolder = "sand"\ntile = 1.0\n'
        quilt = jq.read_quilt(self.write(two, 'into = "second uv"', layers + sand))
        baked = read_image(jq.run(quilt, "bake two")["bake two"].folder / "diffuse.png")
        assert baked[32, 16].tolist() == [255, 0, 0]
        assert baked[32, 48].tolist() == [99, 99, 99]

    def test_weights_and_colours_at_the_vertices(self, two):
        """Colours linear as glTF has them, weights named; and nothing without uv is refused for it."""
        write_image(two / "sand" / "sand_diffuse.png", np.full((16, 16, 3), 188, np.uint8))
        layers = (
            '[[mesh.layer]]\nswatch = "own"\nsoftness = 1.0\n'
            '[[mesh.layer]]\nswatch = "sand"\nsoftness = 1.0\n[[mesh.layer.mask]]\nkind = "constant"\n'
            'value = 0.25\n[[swatch]]\nname = "sand"\nfolder = "sand"\ntile = 1.0\n'
        )
        made = jq.run(jq.read_quilt(self.write(two, 'into = "vertices"', layers)), "bake two")["bake two"]
        document = json.loads((made.folder / "mesh.json").read_text())
        assert document["weights"] == {"own": "_WEIGHTS_0.x", "sand": "_WEIGHTS_0.y"}
        mesh = jq.read_mesh(made.folder / "mesh.glb")
        assert len(mesh.position) == document["vertices"] == 8
        wanted = 0.75 * np.array([1, 0, 0]) + 0.25 * linear_from_srgb(188 / 255)
        assert np.allclose(mesh.colour[0, :3], wanted, atol=0.01)
        raw = (made.folder / "mesh.glb").read_bytes()
        assert np.array([0.75, 0.25], np.float32).tobytes() in raw
        code, out, _ = jquilt("bake", two / "two.quilt.toml", "--force")
        assert code == 0
        assert "8 vertices coloured" in out
        assert "mesh.glb" in out

    @pytest.mark.parametrize(
        ("keys", "layers", "words"),
        [
            ("", None, r'line 3.*mesh "two": uv must lie within 0 to 1 .*\(3, 3\).*unwrap = true'),
            ('into = "second uv"\n', "uv", "has no second set of uv"),
            ("", "bare", 'part "a" has no material; give it a layer of a swatch'),
        ],
    )
    def test_a_refusal_names_the_mesh_the_line_and_what_to_write(self, two, keys, layers, words):
        if layers:
            gltf(two, [("a", None, {"TEXCOORD_0": UV})])
        quilt = jq.read_quilt(self.write(two, keys))
        with pytest.raises(jq.QuiltError, match=words):
            jq.run(quilt, "bake two")

    def test_a_swatch_is_not_called_own(self, two):
        with pytest.raises(jq.QuiltError, match='"own" stands for the material of a mesh'):
            jq.read_quilt(self.write(two, "", more='swatch = [{name = "own", folder = ".", tile = 1.0}]\n'))
        with pytest.raises(jq.QuiltError, match="there is no swatch"):
            (two / "none.quilt.toml").write_text("[arrays]\nside = 16\n")
            jq.read_quilt(two / "none.quilt.toml")

    def test_own_materials_are_examined_too(self, two):
        write_image(two / "map.png", np.full((16, 16, 3), 128, np.uint8))
        material = {"name": "m", "normalTexture": {"index": 0}}
        how = {"materials": [material], "textures": [{"source": 0}], "images": [{"uri": "map.png"}]}
        gltf(two, [("a", 0, {"TEXCOORD_0": UV})], **how)
        code, out, _ = jquilt("check", self.write(two, ""))
        assert code == 1
        assert "1 fault" in out
        assert 'swatch "two: m"' in out
        assert "no layer uses" not in out
        assert jquilt("check", two / "two.quilt.toml", "--mend")[0] == 1  # there is no table to write a mend into

    def test_own_maps_larger_than_the_arrays_keep_their_size(self, two):
        """A texel of theirs is a texel of the bake."""
        rng = np.random.default_rng(0)
        paint = rng.integers(0, 256, (64, 64, 3), dtype=np.uint8)
        write_image(two / "map.png", paint)
        base = {"baseColorTexture": {"index": 0}, "metallicFactor": 0}
        how = {"materials": [{"name": "m", "pbrMetallicRoughness": base}], "textures": [{"source": 0}]}
        gltf(two, [("a", 0, {"TEXCOORD_0": UV})], **how, images=[{"uri": "map.png"}])
        baked = read_image(jq.run(jq.read_quilt(self.write(two, "")), "bake two")["bake two"].folder / "diffuse.png")
        assert np.abs(baked[1:-1, 1:-1].astype(int) - paint[1:-1, 1:-1]).max() <= 1

    def test_a_second_run_costs_nothing(self, two):
        path = self.write(two, 'into = "second uv"')
        assert Results(jq.read_quilt(path)).run("bake two").fresh
        assert not Results(jq.read_quilt(path)).run("bake two").fresh


class TestMtl:
    def read(self, folder, text):
        (folder / "a.obj").write_text("mtllib a.mtl\nv 0 0 0\nv 1 0 0\nv 0 1 0\nusemtl m\nf 1 2 3\n")
        (folder / "a.mtl").write_text(f"newmtl m\n{text}\n")
        mesh, reported = notes_of(jq.read_mesh, folder / "a.obj")
        return {rule.role: rule for rule in mesh.materials["m"].rules}, reported, mesh.materials["m"]

    def test_every_map_of_the_newer_words_is_read(self, tmp_path):
        for name in "rmnea":
            write_image(tmp_path / f"{name}.png", np.full((2, 2), 50, np.uint8))
        rules, _, _ = self.read(
            tmp_path, "map_Pr r.png\nmap_Pm m.png\nmap_Ns n.png\nmap_Ke e.png\nmap_d a.png\nPc 0.5\nPcr 0.1"
        )
        files = {role: rule.file for role, rule in rules.items()}
        assert (files[R.ROUGHNESS], files[R.METALLIC]) == ("r.png", "m.png")
        assert (files[R.SHININESS], files[R.EMISSION], files[R.OPACITY]) == ("n.png", "e.png", "a.png")
        assert (rules[R.COAT].value, rules[R.COAT_ROUGHNESS].value) == ((0.5,), (0.1,))

    def test_constants_stand_for_what_they_mean(self, tmp_path):
        rules, reported, _ = self.read(tmp_path, "Kd 0.5 0.5 0.5\nKs 1 1 1\nKe 0.2 0.1 0\nd 0.25\nPm 1.0\nPr 0.3")
        assert R.SPECULAR not in rules
        assert "1 of 1 materials say Ks and name no map of it" in reported
        assert rules[R.EMISSION].value == (0.2, 0.1, 0.0)
        assert (rules[R.OPACITY].value, rules[R.METALLIC].value, rules[R.ROUGHNESS].value) == ((0.25,), (1.0,), (0.3,))
        rules, reported, _ = self.read(tmp_path, "Kd 1 1 1\nTr 0.25\nKs 0 0 0")
        assert rules[R.OPACITY].value == (0.75,)
        assert reported == ""

    def test_what_is_said_twice_is_reported(self, tmp_path):
        for name in ("one", "two"):
            write_image(tmp_path / f"{name}.png", np.full((2, 2, 3), (128, 128, 255), np.uint8))
        rules, reported, _ = self.read(tmp_path, "map_Kd one.png\nmap_Kd two.png\nnorm one.png\nmap_bump two.png")
        assert rules[R.DIFFUSE].file == "two.png"
        assert "says map_kd twice, one.png and two.png; the last is taken" in reported
        assert rules[R.NORMAL].file == "one.png"
        assert "names two maps of normal, one.png and two.png; the first is taken" in reported

    def test_green_goes_as_the_files_name_says(self, tmp_path):
        for name in ("rock_normal_dx", "rock_normal"):
            write_image(tmp_path / f"{name}.png", np.full((2, 2, 3), (128, 140, 254), np.uint8))
            *_, material = self.read(tmp_path, f"Kd 1 1 1\nnorm {name}.png")
            assert material.swatch_source().sources[R.NORMAL].is_green_down == name.endswith("dx")

    def test_a_grey_map_of_normals_is_heights_and_reported(self, tmp_path):
        write_image(tmp_path / "n.png", np.arange(64, dtype=np.uint8).reshape(8, 8))
        rules, reported, _ = self.read(tmp_path, "norm n.png")
        assert R.HEIGHT in rules
        assert "names n.png as norm, and it is grey" in reported

    def test_offsets_and_scales_move_as_the_standard_has_them(self, tmp_path):
        """(u, v) with v upwards becomes s (u, v) + o."""
        write_image(tmp_path / "one.png", np.zeros((2, 2, 3), np.uint8))
        *_, material = self.read(tmp_path, "map_Kd -s 2.5 3 1 -o 0.25 0.5 0 one.png")
        upwards = np.array([[0.2, 0.9]])
        wanted = upwards * [2.5, 3] + [0.25, 0.5]
        found = material.texture_uv(np.float32(upwards * [1, -1] + [0, 1])) * [1, -1] + [0, 1]
        assert np.allclose((found - wanted + 0.5) % 1, 0.5, atol=1e-5)

    def test_two_parts_that_share_vertices_are_moved_apart(self, tmp_path):
        write_image(tmp_path / "one.png", np.zeros((2, 2, 3), np.uint8))
        (tmp_path / "b.mtl").write_text("newmtl m\nmap_Kd -s 2 2 one.png\nnewmtl n\nmap_Kd one.png\n")
        (tmp_path / "b.obj").write_text(
            "mtllib b.mtl\nv 0 0 0\nv 1 0 0\nv 1 1 0\nv 0 1 0\nvt 0.25 0.25\nvt 0.5 0.25\nvt 0.5 0.5\nvt 0.25 0.5\n"
            "usemtl m\nf 1/1 2/2 3/3\nusemtl n\nf 1/1 3/3 4/4\n"
        )
        mesh = jq.read_mesh(tmp_path / "b.obj")
        moved = mesh.texture_uv()
        assert np.allclose(moved.uv[moved.triangles[1]], mesh.uv[mesh.triangles[1]])
        assert np.allclose(np.ptp(moved.uv[moved.triangles[0]], axis=0), 2 * np.ptp(mesh.uv[mesh.triangles[0]], axis=0))


class TestGltfMaterials:
    def read(self, folder, material, **reported):
        write_image(folder / "map.png", np.full((2, 2, 4), (200, 100, 50, 128), np.uint8))
        textures, images = [{"source": 0}], [{"uri": "map.png"}]
        path = gltf(
            folder,
            [("a", 0, {"TEXCOORD_0": UV})],
            materials=[{"name": "m", **material}],
            textures=textures,
            images=images,
            **reported,
        )
        mesh, notes = notes_of(jq.read_mesh, path)
        return mesh.materials["m"], notes

    def test_factors_count(self, tmp_path):
        texture = {"index": 0}
        base = {"baseColorTexture": texture, "baseColorFactor": [0.5, 1, 1, 0.5], "metallicRoughnessTexture": texture}
        base |= {"roughnessFactor": 0.5, "metallicFactor": 0.25}
        made, _ = self.read(
            tmp_path, {"pbrMetallicRoughness": base, "alphaMode": "MASK", "occlusionTexture": {**texture, "strength": 0.5}}
        )
        swatch = made.swatch_source().read([R.DIFFUSE, R.ROUGHNESS, R.OCCLUSION, R.OPACITY])
        at = lambda role: swatch.maps[role].values[0, 0]
        base_colour = linear_from_srgb(np.array([200, 100, 50]) / 255) * [0.5, 1, 1]
        metal = 0.25 * 50 / 255
        assert np.allclose(at(R.DIFFUSE), base_colour * (1 - metal), atol=5e-3)
        assert np.allclose(at(R.ROUGHNESS), 0.5 * 100 / 255, atol=3e-3)
        assert np.allclose(at(R.OCCLUSION), 1 - 0.5 * (1 - 200 / 255), atol=3e-3)
        assert np.allclose(at(R.OPACITY), 0.5 * 128 / 255, atol=3e-3)

    def test_emission_coat_and_specular(self, tmp_path):
        texture = {"index": 0}
        made, reported = self.read(
            tmp_path,
            {
                "pbrMetallicRoughness": {"metallicFactor": 0},
                "emissiveFactor": [1, 0.5, 0],
                "emissiveTexture": texture,
                "normalTexture": {**texture, "scale": 0.5},
                "extensions": {
                    "KHR_materials_clearcoat": {
                        "clearcoatFactor": 0.8,
                        "clearcoatTexture": texture,
                        "clearcoatRoughnessFactor": 0.2,
                    },
                    "KHR_materials_specular": {"specularFactor": 0.5},
                    "KHR_materials_ior": {"ior": 2.0},
                    "KHR_materials_sheen": {},
                },
            },
        )
        rules = {rule.role: rule for rule in made.rules}
        assert (rules[R.EMISSION].file, rules[R.EMISSION].times) == ("map.png", (1, 0.5, 0))
        assert (rules[R.COAT].channel, rules[R.COAT].times, rules[R.COAT_ROUGHNESS].value) == ("r", 0.8, (0.2,))
        assert rules[R.NORMAL].times == 0.5
        assert np.allclose(rules[R.SPECULAR].value, 0.5 / 9)
        assert "says KHR_materials_sheen, which is not read" in reported

    def test_the_older_way_of_saying_gloss(self, tmp_path):
        both = {"diffuseTexture": {"index": 0}, "specularGlossinessTexture": {"index": 0}, "glossinessFactor": 0.5}
        made, _ = self.read(tmp_path, {"extensions": {"KHR_materials_pbrSpecularGlossiness": both}})
        swatch = made.swatch_source().read([R.DIFFUSE, R.SPECULAR, R.ROUGHNESS])
        assert np.allclose(swatch.maps[R.SPECULAR].values[0, 0], linear_from_srgb(np.array([200, 100, 50]) / 255), atol=5e-3)
        assert np.allclose(swatch.maps[R.ROUGHNESS].values[0, 0], 1 - 0.5 * 128 / 255, atol=3e-3)

    def test_a_set_of_uv_of_its_own_and_a_turn(self, tmp_path):
        """The colour map says by which set it lies; the other is the layout. Tangents follow what is turned."""
        transform = {"KHR_texture_transform": {"rotation": np.pi / 2, "texCoord": 1}}
        material = {"name": "m", "pbrMetallicRoughness": {"baseColorTexture": {"index": 0, "extensions": transform}}}
        write_image(tmp_path / "map.png", np.zeros((2, 2, 3), np.uint8))
        other = UV * np.float32(0.5)
        path = gltf(
            tmp_path,
            [("a", 0, {"TEXCOORD_0": UV, "TEXCOORD_1": other})],
            materials=[material],
            textures=[{"source": 0}],
            images=[{"uri": "map.png"}],
        )
        mesh = jq.read_mesh(path, second_uv=True)
        assert (mesh.uv.max(), mesh.layout.max()) == (0.5, 1)
        turned = mesh.texture_uv()
        assert np.allclose(np.abs(turned.tangent[:, :3] @ [0, 0, 1]), 1, atol=1e-6)
        assert np.allclose(np.abs(mesh.tangent[:, :3] @ [1, 0, 0]), 1, atol=1e-6)


class TestScenes:
    """What a scene says of its meshes beside their triangles."""

    @staticmethod
    def painted(folder, sampler=None, attributes=None, **how):
        """A square whose uv reach from -1 to 2, painted with four colours, and how its texture is laid."""
        quarters = np.array([[(255, 0, 0), (0, 255, 0)], [(0, 0, 255), (255, 255, 255)]], np.uint8).repeat(8, 0).repeat(8, 1)
        write_image(folder / "paint.png", quarters)
        texture = {"source": 0} | ({} if sampler is None else {"sampler": 0})
        base = {"baseColorTexture": {"index": 0}, "metallicFactor": 0}
        return gltf(
            folder,
            [("a", 0, {"TEXCOORD_0": 3 * UV - 1, "TEXCOORD_1": UV} if attributes is None else attributes)],
            materials=[{"name": "paint", "pbrMetallicRoughness": base}],
            textures=[texture],
            images=[{"uri": "paint.png"}],
            **({} if sampler is None else {"samplers": [sampler]}),
            **how,
        )

    @pytest.mark.parametrize(
        ("sampler", "corner"),
        [
            (None, (255, 0, 0)),
            ({"wrapS": 33071, "wrapT": 33071}, (255, 0, 0)),
            ({"wrapS": 33648, "wrapT": 10497}, (0, 255, 0)),
            ({"wrapS": 33648, "wrapT": 33648}, (255, 255, 255)),
        ],
    )
    def test_samplers_say_what_lies_beyond_a_texture(self, tmp_path, sampler, corner):
        """At the corner of the layout uv are a little more than (-1, -1)."""
        assert self.baked(tmp_path, sampler)[4, 4].tolist() == list(corner)

    def baked(self, folder, sampler):
        self.painted(folder, sampler)
        path = folder / "m.quilt.toml"
        layer = '[[mesh.layer]]\nswatch = "own"\nfilter = "nearest"\n'
        mesh = '[[mesh]]\nname = "m"\nfile = "shape.gltf"\ntexels = 96\ninto = "second uv"\n'
        path.write_text(f"[arrays]\nside = 16\n{mesh}{layer}")
        return read_image(jq.run(jq.read_quilt(path), "bake m", force=True)["bake m"].folder / "diffuse.png")

    def test_four_samplers_bake_to_four_maps(self, tmp_path):
        wraps = ((10497, 10497), (33071, 10497), (33648, 10497), (33071, 33648))
        made = [self.baked(tmp_path, dict(zip(("wrapS", "wrapT"), each, strict=True))).tobytes() for each in wraps]
        assert len(set(made)) == 4

    def test_an_unknown_wrap_mode_and_nearest_texels_are_reported(self, tmp_path):
        _, words = notes_of(jq.read_mesh, self.painted(tmp_path, {"wrapS": 7}))
        assert "has a sampler with the unknown wrap modes 7 and 10497" in words
        mesh, words = notes_of(jq.read_mesh, self.painted(tmp_path, {"magFilter": 9728}))
        assert 'unless its layer sets filter = "nearest"' in words
        assert mesh.materials["paint"].wrap == ("repeat", "repeat")

    def test_vertex_colours_multiply_the_base_colour(self, tmp_path):
        """In linear light, and what lies over it is not tinted."""
        colours = np.float32([[0.5, 0.25, 1.0, 1.0]] * 4)
        write_image(tmp_path / "sand" / "sand_diffuse.png", np.full((16, 16, 3), 99, np.uint8))
        sand = '[[swatch]]\nname = "sand"\nfolder = "sand"\ntile = 1.0\n'
        over = '[[mesh.layer]]\nswatch = "sand"\nsoftness = 1.0\n[[mesh.layer.mask]]\nkind = "constant"\nvalue = 0.5\n'
        mesh = '[[mesh]]\nname = "m"\nfile = "shape.gltf"\ntexels = 32\n[[mesh.layer]]\nswatch = "own"\nsoftness = 1.0\n'
        path, made = tmp_path / "m.quilt.toml", []
        for attributes, layers in (({}, ""), ({"COLOR_0": colours}, ""), ({}, over), ({"COLOR_0": colours}, over)):
            self.painted(tmp_path, None, {"TEXCOORD_0": UV, **attributes})
            path.write_text(f"[arrays]\nside = 16\n{sand}{mesh}{layers}")
            maps = jq.run(jq.read_quilt(path), "bake m", force=True)["bake m"].folder
            made.append(linear_from_srgb(read_image(maps / "diffuse.png")[4, 4] / 255))
        plain, tinted, below, both = made
        assert np.allclose(tinted, plain * colours[0, :3], atol=4e-3)
        assert np.allclose(both, below - 0.5 * (plain - tinted), atol=4e-3)

    def test_what_vertex_colours_do_not_do_is_reported(self, tmp_path):
        colours = np.full((4, 4), 0.5, np.float32)
        _, words = notes_of(jq.read_mesh, self.painted(tmp_path, None, {"TEXCOORD_0": UV, "COLOR_0": colours}))
        assert 'material "paint" has vertex colours (COLOR_0) with an alpha, which is not supported' in words
        text = (tmp_path / "shape.gltf").read_text().replace('"metallicFactor": 0', '"metallicFactor": 1')
        (tmp_path / "shape.gltf").write_text(text)
        assert "what its metal reflects is not" in notes_of(jq.read_mesh, tmp_path / "shape.gltf")[1]
        _, words = notes_of(jq.read_mesh, self.painted(tmp_path, None, {"TEXCOORD_0": UV, "COLOR_0": colours[:, :3]}))
        assert words == ""

    def test_every_instance_of_a_mesh_is_read(self, tmp_path):
        moves = np.float32([[0, 0, 0], [10, 0, 0], [0, 5, 0]])
        turn = np.float32([[0, 0, 0, 1], [0, 1, 0, 0], [0, 0, 0, 1]])

        def more(add):
            sizes = np.float32([[1] * 3, [2] * 3, [1] * 3])
            said = {"TRANSLATION": add(moves, "VEC3"), "ROTATION": add(turn, "VEC4"), "SCALE": add(sizes, "VEC3")}
            instances = {"EXT_mesh_gpu_instancing": {"attributes": said}}
            return {"nodes": [{"mesh": 0, "translation": [0, 1, 0], "extensions": instances}]}

        mesh = jq.read_mesh(gltf(tmp_path, [("a", None, {})], more, extensionsUsed=["EXT_mesh_gpu_instancing"]))
        assert mesh.part_names == ("a", "a 2", "a 3")
        lows = [mesh.part(name).bounds for name in mesh.part_names]
        assert np.allclose(lows[0], [[0, 1, 0], [1, 1, 1]])
        assert np.allclose(lows[1], [[8, 1, -2], [10, 1, 0]], atol=1e-5)
        assert np.allclose(lows[2], [[0, 6, 0], [1, 6, 1]])

    def test_a_skinned_mesh_is_where_its_joints_take_it(self, tmp_path):
        """And not where its own node is, which does not count."""
        joints = np.uint8([[0, 1, 0, 0]] * 4)
        weights = np.float32([[1, 0, 0, 0], [1, 0, 0, 0], [0, 1, 0, 0], [0.5, 0.5, 0, 0]])
        binds = np.tile(np.eye(4, dtype=np.float32).ravel(), (2, 1))

        def more(add):
            nodes = [
                {"children": [1, 2, 3], "scale": [100, 100, 100]},
                {"mesh": 0, "skin": 0, "scale": [0.01, 0.01, 0.01], "translation": [7, 7, 7]},
                {"translation": [0, 1, 0]},
                {"translation": [0, 0, 2]},
            ]
            skin = {"joints": [2, 3], "inverseBindMatrices": add(binds, "MAT4")}
            return {"nodes": nodes, "skins": [skin], "scenes": [{"nodes": [0]}]}

        attributes = {"JOINTS_0": joints, "WEIGHTS_0": weights, "NORMAL": np.float32([[0, 1, 0]] * 4)}
        mesh = jq.read_mesh(gltf(tmp_path, [("a", None, attributes)], more))
        wanted = 100 * (SQUARE + np.array([[0, 1, 0], [0, 1, 0], [0, 0, 2], [0, 0.5, 1]]))
        assert np.allclose(mesh.world[np.argsort(mesh.source)], wanted, atol=1e-3)
        assert np.allclose(mesh.normal, [0, 1, 0])
        document = json.loads((tmp_path / "shape.gltf").read_text())
        document["nodes"][0]["children"] = [1]  # joints that stand outside of the scene, one of no size
        document["nodes"][3]["scale"] = [0, 0, 0]
        (tmp_path / "shape.gltf").write_text(json.dumps(document))
        shrunk = quietly(jq.read_mesh, tmp_path / "shape.gltf")
        assert np.allclose(shrunk.bounds, [[0, 0, 0], [1, 1, 2]], atol=1e-5)
        assert np.isfinite(shrunk.normal).all()

    def test_whole_uv_that_a_transform_takes_back_fill_their_layout(self, tmp_path):
        """As tools write them that store little: a sixteenth of each axis."""
        whole = np.rint(UV * 4095).astype(np.uint16)
        path = self.painted(tmp_path, None, {"TEXCOORD_0": whole}, normalized=("TEXCOORD_0",))
        document = json.loads(path.read_text())
        base = document["materials"][0]["pbrMetallicRoughness"]["baseColorTexture"]
        base["extensions"] = {"KHR_texture_transform": {"scale": [65535 / 4095] * 2}}
        path.write_text(json.dumps(document))
        mesh = jq.read_mesh(path)
        assert np.allclose(mesh.uv[np.argsort(mesh.source)], UV, atol=1e-4)
        assert not mesh.materials["paint"].moves

    def test_a_name_may_begin_with_a_blank(self, tmp_path):
        path = self.painted(tmp_path)
        (tmp_path / "paint.png").rename(tmp_path / " paint.png")
        path.write_text(path.read_text().replace("paint.png", "%20paint.png"))
        assert R.DIFFUSE in jq.read_mesh(path).materials["paint"].roles


class TestTangentsOfFiles:
    def test_those_without_direction_are_made_and_the_others_kept(self, tmp_path):
        tangent = np.tile(np.float32([0.6, 0, 0.8, -1]), (4, 1))
        tangent[2] = 0
        normal = np.tile(np.float32([0, -1, 0]), (4, 1))
        path = gltf(tmp_path, [("a", None, {"TEXCOORD_0": UV, "NORMAL": normal, "TANGENT": tangent})])
        mesh, reported = notes_of(jq.read_mesh, path)
        assert "1 of 4 tangents have no direction; made anew there" in reported
        kept = np.isclose(mesh.tangent[:, 0], 0.6).sum()
        assert kept == 3
        assert np.isclose(np.linalg.norm(mesh.tangent[:, :3], axis=1), 1).all()
        assert "handedness" not in reported or "contradicts" in reported

    @pytest.mark.parametrize("hand", [1, -1])
    def test_handedness_that_contradicts_the_uv_is_reported(self, tmp_path, hand):
        plain = jq.read_mesh(gltf(tmp_path, [("a", None, {"TEXCOORD_0": UV})]))
        tangent = np.array(plain.tangent)[np.argsort(plain.source)] * np.float32([1, 1, 1, hand])
        normal = np.array(plain.normal)[np.argsort(plain.source)]
        _, reported = notes_of(
            jq.read_mesh, gltf(tmp_path, [("a", None, {"TEXCOORD_0": UV, "NORMAL": normal, "TANGENT": tangent})])
        )
        assert ("2 of 2 triangles have tangents whose handedness contradicts" in reported) == (hand < 0)

    def test_normals_are_made_where_they_lack(self, tmp_path):
        (tmp_path / "a.obj").write_text(
            "v 0 0 0\nv 1 0 0\nv 0 1 0\nv 0 0 5\nv 1 0 5\nv 0 1 5\nvn 0.6 0 0.8\nf 1//1 2//1 3//1\nf 4 5 6\n"
        )
        mesh = jq.read_mesh(tmp_path / "a.obj")
        assert np.allclose(mesh.normal[mesh.triangles[0]], [0.6, 0, 0.8])
        assert np.allclose(mesh.normal[mesh.triangles[1]], [0, 0, 1])


@pytest.fixture(scope="module")
def board():
    """Two metres by two, uv from 0 to 0.5."""
    return jq.Mesh.of(2 * SQUARE, CORNERS.reshape(-1, 3).astype(int), uv=0.5 * UV)


@pytest.fixture(scope="module")
def arrays():
    colour, normal = waves(64)
    maps = {R.DIFFUSE: jq.TextureMap(role=R.DIFFUSE, texels=colour), R.NORMAL: jq.TextureMap(role=R.NORMAL, texels=normal)}
    return jq.pack([jq.Swatch(name="wave", tile=4.0, relief=0.1, maps=maps)], side=64)


class TestMetresOfUv:
    """How long one unit of uv is, measured."""

    def test_exact_detail_leaves_a_meshs_own_normals_as_they_are(self, board, arrays):
        """The unit measures 4 m, as the tile: exact and cheap say the same, and so does the map itself."""
        assert board.metres_of(board.parts[0]) == pytest.approx(4)
        baked = {}
        for detail in ("exact", "cheap"):
            layer = jq.Layer("wave", jq.Uv(detail=detail))
            baked[detail] = jq.bake(jq.UvCanvas(board, 128), [layer], arrays, filter="bilinear")["normal"].astype(int)
        assert np.abs(baked["exact"] - baked["cheap"])[:63, :63].max() <= 1
        row, column = np.mgrid[4:60, 4:60]
        uv = np.column_stack([(column.ravel() + 0.5) / 128, (row.ravel() + 0.5) / 128])
        wanted = looked_up(waves(64)[1] / 65535 * 255, uv).reshape(56, 56, 3)
        assert np.abs(baked["exact"][4:60, 4:60] - wanted).max() <= 2
        spoilt = jq.bake(jq.UvCanvas(board, 128), [jq.Layer("wave", jq.Uv(metres=1))], arrays, filter="bilinear")["normal"]
        assert np.abs(spoilt.astype(int) - baked["exact"])[4:60, 4:60].max() > 30

    def test_stretch_and_density_are_measured_with_cheap_detail_too(self, arrays):
        narrow = jq.Mesh.of(SQUARE * [2, 1, 1], CORNERS.reshape(-1, 3).astype(int), uv=UV)
        weights = Weigher([jq.Layer("wave")], MeshFields(narrow)).at(narrow.points())
        found = {
            detail: jq.Blend(arrays, [jq.Layer("wave", jq.Uv(metres=4, detail=detail))]).survey(narrow.points(), weights)
            for detail in ("exact", "cheap")
        }
        assert np.allclose(found["exact"].stretch, 2, atol=1e-4)
        assert np.array_equal(found["exact"].stretch, found["cheap"].stretch)
        assert np.array_equal(found["exact"].density, found["cheap"].density)

    def test_it_is_said_after_a_bake(self, tmp_path):
        jq.export.write_mesh(jq.Mesh.of(2 * SQUARE, CORNERS.reshape(-1, 3).astype(int), uv=0.5 * UV), tmp_path / "board.obj")
        write_image(tmp_path / "sand" / "sand_diffuse.png", np.full((16, 16, 3), 99, np.uint8))
        (tmp_path / "a.quilt.toml").write_text(
            '[[swatch]]\nname = "sand"\nfolder = "sand"\ntile = 1.0\n[arrays]\nside = 16\n[[mesh]]\nname = "board"\n'
            'file = "board.obj"\ntexels = 32\n[[mesh.layer]]\nswatch = "sand"\nprojection = "uv"\n'
        )
        made = Results(jq.read_quilt(tmp_path / "a.quilt.toml")).run("bake board")
        assert "one unit of uv measures 4 m" in made.remark


def test_overlaps_are_texels_and_not_pairs():
    """A hundred squares on each other are as many texels as one."""
    one = jq.Mesh.of(SQUARE, CORNERS.reshape(-1, 3).astype(int), uv=UV)
    many = jq.Mesh.joined([one] * 100)
    baked, reported = notes_of(jq.bake, jq.UvCanvas(many, 32), [jq.Layer("plain")], jq.pack([plain_swatch()], side=16))
    assert 900 <= baked.cover.overlaps <= 32 * 32
    assert "texels lie in more than one triangle" in reported


TRIANGLE = "v 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n"


class TestText:
    @pytest.mark.parametrize("encoding", ["utf-8", "utf-8-sig", "utf-16", "utf-16-le", "utf-16-be", "latin-1"])
    @pytest.mark.parametrize("end", ["\n", "\r\n", "\r"])
    def test_whatever_the_encoding_and_the_line_ends(self, tmp_path, encoding, end):
        text = "# größe\no größe\n" + TRIANGLE
        (tmp_path / "a.obj").write_bytes(text.replace("\n", end).encode(encoding))
        assert jq.read_mesh(tmp_path / "a.obj").part_names == ("größe",)

    @pytest.mark.parametrize(
        ("number", "value", "reported"),
        [
            ("1,5", 1.5, "1 numbers with a decimal comma read"),
            ("1.5d0", 1.5, "1 numbers with d in place of e read"),
            ("1.5f", 1.5, "1 numbers that end with f read"),
            ("+1.5E+000", 1.5, ""),
            (".5", 0.5, ""),
            ("1.", 1.0, ""),
        ],
    )
    def test_numbers_in_odd_forms(self, tmp_path, number, value, reported):
        (tmp_path / "a.obj").write_text(TRIANGLE.replace("v 1 0 0", f"v {number} 0 0"))
        mesh, notes = notes_of(jq.read_mesh, tmp_path / "a.obj")
        assert mesh.position[:, 0].max() == np.float32(value)
        assert notes == f"{tmp_path / 'a.obj'}: {reported}" if reported else notes == ""

    @pytest.mark.parametrize(
        ("text", "words"),
        [
            (TRIANGLE + "v 1 0x10 0\n", "line 5: '0x10' is no number; got 'v 1 0x10 0'"),
            (TRIANGLE + "v 1 1_0 0\n", "line 5: '1_0' is no number"),
            (TRIANGLE + "v 1.5.6 0\n", "line 5: 3 numbers are needed"),
            (TRIANGLE + "f 1 2 b\n", "line 5: 'b' is no corner; write 1, 1/1, 1//1 or 1/1/1"),
            (TRIANGLE + "f 1/1/1/1 2 3\n", "line 5: '1/1/1/1' is no corner"),
            (TRIANGLE + "f /1 2 3\n", "line 5: a corner needs a vertex; got 'f /1 2 3'"),
            (TRIANGLE + "f 1 2 -9\n", "line 5: a corner names vertex -9; the file has 3"),
            (TRIANGLE + "v 1 2 3 \0\n", "line 5: holds zero bytes"),
            (TRIANGLE + "f 1 \\\n 2 3\nv 1 x 0\n", "line 7: 'x' is no number"),
        ],
    )
    def test_what_cannot_be_read_is_named_with_its_line(self, tmp_path, text, words):
        (tmp_path / "a.obj").write_text(text)
        with pytest.raises(jq.QuiltError) as refused:
            jq.read_mesh(tmp_path / "a.obj")
        assert words in str(refused.value)

    def test_values_that_are_not_finite_are_left_out_and_reported(self, tmp_path):
        (tmp_path / "a.obj").write_text(TRIANGLE + "v 1.#QNAN 0 -1.#IND\nf 1 2 4\nf 1 2\n")
        mesh, reported = notes_of(jq.read_mesh, tmp_path / "a.obj")
        assert len(mesh.triangles) == 1
        assert "1 of 4 positions are not finite" in reported
        assert "1 of 3 faces have fewer than three corners" in reported

    def test_remarks_names_and_lines_that_go_on(self, tmp_path):
        """A # within a name belongs to it; numbers may stand before their vertices, and go back from their line."""
        (tmp_path / "a.obj").write_text(
            "usemtl Stone#2 # a remark\nf 1 2 \\\n 3\nv 0 0 0\nv 1 0 0\nv 0 1 0\nf -1 -2 -3\n#f 9 9 9\n"
        )
        mesh = quietly(jq.read_mesh, tmp_path / "a.obj")
        assert mesh.parts[0].material == "Stone#2"
        assert len(mesh.triangles) == 2

    def test_ply_with_uv_at_the_corners(self, tmp_path):
        head = "ply\nformat ascii 1.0\nelement vertex 3\nproperty float x\nproperty float y\nproperty float z\nelement face 2\n"
        head += "property list uchar int vertex_indices\nproperty list uchar float texcoord\nend_header\n"
        (tmp_path / "a.ply").write_text(head + "0 0 0\n1 0 0\n0 1 0\n3 0 1 2 6 0 0 1 0 0 1\n2 0 1 4 0 0 0 0\n")
        mesh, reported = notes_of(jq.read_mesh, tmp_path / "a.ply")
        assert mesh.uv[mesh.triangles[0]].tolist() == [[0, 1], [1, 1], [0, 0]]
        assert "1 of 2 faces have fewer than three corners" in reported


def test_a_polygon_of_many_corners_keeps_its_area():
    """Three thousand corners in and out, whichever way it turns, beside squares and triangles."""
    angle = np.linspace(0, 2 * np.pi, 3000, endpoint=False)
    radius = 1 + 0.3 * np.sin(40 * angle)
    star = np.stack([radius * np.cos(angle), 0 * angle, radius * np.sin(angle)], axis=1)
    square = np.array([[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0]], float)
    places = np.concatenate([square, star, star[::-1], square[:3]])
    counts = np.array([4, 3000, 3000, 3])
    cut, polygon = cut_polygons(places, counts)
    assert np.bincount(polygon).tolist() == [2, 2998, 2998, 1]
    out = np.cross(places[cut[:, 1]] - places[cut[:, 0]], places[cut[:, 2]] - places[cut[:, 0]]) / 2
    flat = star[:, [0, 2]]
    wanted = abs(np.sum(flat[:, 0] * np.roll(flat[:, 1], -1) - np.roll(flat[:, 0], -1) * flat[:, 1])) / 2
    for number in (1, 2):
        assert np.linalg.norm(out[polygon == number], axis=1).sum() == pytest.approx(wanted, rel=1e-9)
    assert np.sign(out[polygon == 1][:, 1].sum()) == -np.sign(out[polygon == 2][:, 1].sum())
