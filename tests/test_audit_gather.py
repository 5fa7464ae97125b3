"""Gathering: folders that nobody prepared become quilt files that work, and no file plays a role that nobody told of."""

import contextlib
import json
import os
import pty
import shutil
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest
from scipy.ndimage import gaussian_filter

import jagged_quilt as jq
from conftest import jquilt
from jagged_quilt.images import write_image
from jagged_quilt.maps.names import sets_in

R = jq.MapRole
EXPECTED = Path(__file__).parent / "gathered.quilt.toml"


def waves(side=64):
    v, u = np.mgrid[:side, :side] * (2 * np.pi / side)
    return 0.5 + 0.25 * np.sin(2 * u) * np.cos(v) + 0.2 * np.cos(3 * v + u)


def grey(side=64, low=40, high=210):
    return (low + (high - low) * waves(side)[..., None]).astype(np.uint8)


def colour(side=64):
    return np.concatenate([grey(side, 90, 180), grey(side, 60, 120), grey(side, 30, 90)], axis=2)


def normals(relief=0.1, heights=None):
    made = jq.convert.normal_from_height(relief * (waves() if heights is None else heights), tile=(2.0, 2.0))
    return np.rint(127.5 * made + 127.5).astype(np.uint8)


def bumps(side=64):
    made = gaussian_filter(np.random.default_rng(5).normal(size=(side, side)), 1.5, mode="wrap")
    return (made - made.min()) / np.ptp(made)


def flipped(image):
    return np.concatenate([image[..., :1], 255 - image[..., 1:2], image[..., 2:]], axis=2)


def encoded(image):
    return np.rint(255 * jq.convert.srgb_from_linear(image / np.float32(255))).astype(np.uint8)


def linear(image):
    return np.rint(255 * jq.convert.linear_from_srgb(image / np.float32(255))).astype(np.uint8)


def fine_grain(side=256):
    v, u = np.mgrid[:side, :side] * (2 * np.pi / side)
    return np.sin(60 * u + 3 * v) * np.cos(55 * v)


def packed(side=64):
    return np.concatenate([grey(side, 150, 255), grey(side), 255 * (grey(side) > 120).astype(np.uint8)], axis=2)


def noisy_grey(side=64):
    """As lossy coding makes it: the channels lie a few steps apart."""
    return np.clip(grey(side).astype(int) + np.random.default_rng(1).integers(-3, 4, (side, side, 3)), 0, 255).astype(np.uint8)


DOWNLOADS = {
    # names that sound like roles
    "bazaar/rough_wall_diff.png": colour,
    "bazaar/rough_wall_hm.png": grey,
    "bazaar/rough_wall_nm.png": normals,
    "bazaar/metal_plate_bc_2k.png": colour,
    "bazaar/metal_plate_arm_2k.png": packed,
    "bazaar/metal_plate_nrm_2k.png": normals,
    # a bare name, words glued on, letters
    "bazaar/meadow.png": colour,
    "bazaar/meadownormal2k.png": normals,
    "bazaar/meadowspec2k.png": colour,
    "bazaar/kelp_c.png": colour,
    "bazaar/kelp_n.png": normals,
    "bazaar/kelp_s.png": grey,
    "bazaar/Reef01_BaseColor.png.tga": colour,
    "bazaar/Reef01_AmbientOcclusion.png": noisy_grey,
    # twins
    "bazaar/dune_diff.jpg": lambda: colour(128),
    "bazaar/dune_diff.png": lambda: colour(64),
    "bazaar/dune_diff_1k.png": lambda: colour(128),
    "bazaar/dune_height.png": grey,
    # variants that share what has no colour
    "bazaar/hatch1_nm.png": lambda: normals() * (np.arange(64) % 16 > 3)[None, :, None].astype(np.uint8),  # with gaps
    "bazaar/hatch1a.png": colour,
    "bazaar/hatch1b.png": colour,
    # pictures that do not bear out their names
    "bazaar/liar_diff.png": colour,
    "bazaar/liar_normal.png": grey,
    "bazaar/liar_rough.png": colour,
    "bazaar/liar_disp.png": normals,
    "bazaar/vat_d.png": colour,
    "bazaar/vat_orm.png": lambda: np.repeat(grey(), 3, axis=2),
    "bazaar/lamp_d.png": colour,
    "bazaar/lamp_n.png": normals,
    "bazaar/lamp_g.png": lambda: np.zeros((64, 64, 1), np.uint8),
    "bazaar/lamp_emissive.png": colour,
    "bazaar/cut_albedo.png": b"not a picture",
    # what is no material
    "bazaar/preview_of_all.png": colour,
    "bazaar/ash.png": grey,
    "bazaar/orphan_normal.png": normals,
    "bazaar/notes.psd": b"8BPS",
    **{f"bazaar/dusk_{face}.png": colour for face in ("bk", "dn", "ft", "lf", "rt", "up")},
    # folders that name
    "salt pan/diffuse.png": colour,
    "salt pan/normal_dx.png": normals,
    "chalk/2k/chalk_albedo.png": colour,
    "chalk/2k/chalk_roughness.png": grey,
    "tiles/diffuse/blue.png": colour,
    "tiles/normal/blue.png": normals,
    "tiles/diffuse/red.png": colour,
    "tiles/normal/red.png": normals,
}
WANTED = {
    "rough wall": {"diffuse": "rough_wall_diff.png", "normal": "rough_wall_nm.png", "height": "rough_wall_hm.png"},
    "metal plate": {
        "diffuse": "metal_plate_bc_2k.png",
        "normal": "metal_plate_nrm_2k.png",
        "occlusion roughness metallic": "metal_plate_arm_2k.png",
    },
    "meadow": {"diffuse": "meadow.png", "normal": "meadownormal2k.png", "specular": "meadowspec2k.png"},
    "kelp": {"diffuse": "kelp_c.png", "normal": "kelp_n.png", "specular": "kelp_s.png"},
    "reef01": {"diffuse": "Reef01_BaseColor.png.tga", "occlusion": "Reef01_AmbientOcclusion.png"},
    "dune": {"diffuse": "dune_diff_1k.png", "height": "dune_height.png"},
    "hatch1a": {"diffuse": "hatch1a.png", "normal": "hatch1_nm.png"},
    "hatch1b": {"diffuse": "hatch1b.png", "normal": "hatch1_nm.png"},
    "liar": {"diffuse": "liar_diff.png"},
    "vat": {"diffuse": "vat_d.png"},
    "lamp": {"diffuse": "lamp_d.png", "normal": "lamp_n.png", "emission": "lamp_emissive.png"},
    "salt pan": {"diffuse": "diffuse.png", "normal": "normal_dx.png"},
    "chalk": {"diffuse": "chalk_albedo.png", "roughness": "chalk_roughness.png"},
    "blue": {"diffuse": "blue.png", "normal": "blue.png"},
    "red": {"diffuse": "red.png", "normal": "red.png"},
}


@pytest.fixture(scope="session")
def downloads(tmp_path_factory):
    folder = tmp_path_factory.mktemp("downloads")
    for name, made in DOWNLOADS.items():
        (folder / name).parent.mkdir(parents=True, exist_ok=True)
        if isinstance(made, bytes):
            (folder / name).write_bytes(made)
        else:
            write_image(folder / name, made())
    return folder


@pytest.fixture
def home(downloads, tmp_path):
    shutil.copytree(downloads, tmp_path / "downloads")
    return tmp_path


def roles_of(one):
    return {" ".join(role.key for role in each.roles): each.file.name for each in one.maps}


class TestNames:
    @pytest.mark.parametrize(
        ("files", "sets"),
        [
            ("rough_wall_diff rough_wall_hm", {"rough wall"}),
            ("a_d a_n b_d b_n", {"a", "b"}),
            ("gold_metal gold_metal_n gold_metal_s", {"gold metal"}),
            ("wall wall_n wall_wet wall_wet_n", {"wall", "wall wet"}),
            ("T_Clay_D T_Clay_N", {"clay"}),
            ("normal_clay diffuse_clay", {"clay"}),
            ("ClayBaseColor_v2 clay_ao_4096 clay-rgh", {"clay"}),
            ("wall_01_diff wall_01_nor wall_02_diff wall_02_nor", {"wall 01", "wall 02"}),
            ("kiln_0007_d kiln_0007_n kiln_0008_d kiln_0008_n", {"kiln 0007", "kiln 0008"}),
            ("wall_diff_01 wall_nor_01 wall_diff_02 wall_nor_02", {"wall 01", "wall 02"}),
        ],
    )
    def test_files_are_grouped_by_what_they_share(self, files, sets):
        found = sets_in([Path(f"heap/{name}.png") for name in files.split()])
        assert {each.name for each in found} == sets
        assert sum(len(each.maps) for each in found) == len(files.split())

    def test_a_family_may_have_words_of_its_own(self):
        files = [Path("x/kiln_zz.png"), Path("x/kiln_q.png")]
        found = sets_in(files, words={"_zz": (R.DIFFUSE,), "_q": (R.HEIGHT,)})
        assert [(each.name, len(each.maps)) for each in found] == [("kiln", 2)]

    def test_a_swatch_never_takes_a_neighbours_map(self, tmp_path):
        for name in ("clay_d", "clay_n", "salt_d", "salt_h", "salt_ao"):
            write_image(tmp_path / f"{name}.png", normals() if name.endswith("n") else colour())
        with pytest.raises(jq.QuiltError, match='the maps of 2 materials: "clay", "salt"; name the swatch as one of them'):
            jq.SwatchSource(name="heap", folder=tmp_path, tile=1.0).sources  # noqa: B018
        clay = jq.SwatchSource(name="clay", folder=tmp_path, tile=1.0)
        assert {role.key: each.file.name for role, each in clay.sources.items()} == {
            "diffuse": "clay_d.png",
            "normal": "clay_n.png",
        }


class TestGather:
    def test_every_disorder_is_put_in_order_or_reported(self, downloads):
        found = jq.gather(downloads)
        assert {each.name: roles_of(each) for each in found.sets} == WANTED
        asked = {each.file.name: each.why for one in found.sets for each in one.left if each.ask}
        assert asked == {
            "liar_normal.png": '"normal" in its name says normal, but it is grey, as height maps are',
            "liar_rough.png": '"rough" in its name says roughness, but it holds colour, so it may be another map, or several '
            "in its channels",
            "liar_disp.png": '"disp" in its name says height, but it holds normals',
            "vat_orm.png": '"orm" in its name says occlusion, roughness, metallic, but its channels are alike: one grey map, '
            "not several",
            "lamp_g.png": '"g" in its name says gloss, but it is black for the most part, as maps of what glows are',
        }
        left = {each.file.name: each.why for each in found.left}
        assert left.pop("ash.png") == "fits no set, and is grey: it may be any map"
        assert left.pop("orphan_normal.png") == "normal of a set that has no colour map"
        assert "not an image that can be read" in left.pop("cut_albedo.png")
        assert left.pop("preview_of_all.png") == "shows a material by its name, and is none of its maps"
        assert set(left.values()) == {"a face of a sky"}
        assert [path.name for path in found.unread] == ["notes.psd"]

    def test_twins_are_chosen_by_what_they_keep(self, downloads):
        dune = next(each for each in jq.gather(downloads).sets if each.name == "dune")
        assert dune.maps[0].why == '"diff" in its name; the larger, 128 x 128, of 3 twins'
        assert {each.file.name for each in dune.left} == {"dune_diff.jpg", "dune_diff.png"}

    def test_every_set_reads_as_it_says(self, downloads):
        for one in jq.gather(downloads).sets:
            swatch = one.source().read()
            reported = {role for each in one.maps for role in each.roles}
            assert {role for role in reported if role in swatch.maps} >= reported - {R.METALLIC}
        plate = next(each for each in jq.gather(downloads).sets if each.name == "metal plate").source().read()
        assert np.array_equal(plate.maps[R.ROUGHNESS].texels, packed()[..., 1:2])

    def test_nothing_there_is_an_error(self, tmp_path):
        with pytest.raises(jq.QuiltError, match="there is no such folder to gather from"):
            jq.gather(tmp_path / "nowhere")
        code, _, errors = jquilt("gather", tmp_path, "--into", tmp_path / "m.quilt.toml")
        assert code == 2
        assert "no image files that can be read lie there; nothing is written" in errors
        assert not (tmp_path / "m.quilt.toml").exists()


class TestUnclear:
    """Files whose names say something that is not known are asked about, and never taken for a material."""

    @pytest.mark.parametrize("name", ["crate_sm", "crate_add", "crate_gm", "crate_glowy", "crate_luminosity", "crate_masks"])
    def test_an_unknown_word_behind_the_name_of_a_set(self, tmp_path, name):
        for word, made in {"crate_d": colour, "crate_n": normals, name: lambda: colour() // 2}.items():
            write_image(tmp_path / f"{word}.png", made())
        found = jq.gather(tmp_path)
        assert [each.name for each in found.sets] == ["crate"]
        (asked,) = [each for each in (*found.left, *found.sets[0].left) if each.ask]
        assert asked.file.stem == name
        assert "[names]" in asked.why

    @pytest.mark.parametrize("name", ["luminosity", "masks", "palette", "environment", "whatever"])
    def test_a_word_among_the_maps_of_a_folder(self, tmp_path, name):
        for word, made in {"diffuse": colour, "normal": normals, name: lambda: colour() // 2}.items():
            write_image(tmp_path / "lamp" / f"{word}.png", made())
        found = jq.gather(tmp_path)
        assert [(each.name, len(each.maps)) for each in found.sets] == [("lamp", 2)]
        assert [each.file.stem for each in (*found.left, *found.sets[0].left) if each.ask] == [name]

    def test_pictures_of_surroundings_are_asked_about(self, tmp_path):
        write_image(tmp_path / "studio.exr", np.ones((32, 64, 3), np.float32) * np.float32([0.2, 0.5, 0.9]))
        assert "as pictures of surroundings are" in jq.gather(tmp_path).left[0].why

    def test_variants_that_differ_by_a_word_or_a_number_stay_materials(self, tmp_path):
        for name in ("wall_dark", "wall_light", "wall_2", "wall"):
            write_image(tmp_path / f"{name}.png", colour())
        assert {each.name for each in jq.gather(tmp_path).sets} == {"wall dark", "wall light", "wall 2", "wall"}

    def test_letters_of_any_script_tell_sets_apart_and_accents_stay(self, tmp_path):
        for name in ("Žula", "Wiese grün", "岩石", "土", "песок"):
            write_image(tmp_path / f"{name}_d.png", colour())
            write_image(tmp_path / f"{name}_n.png", normals())
        assert {each.name for each in jq.gather(tmp_path).sets} == {"žula", "wiese grün", "岩石", "土", "песок"}

    @pytest.mark.parametrize(
        ("word", "roles"),
        [
            *(("".join(w), r) for w, r in (("ORM", "occlusion roughness metallic"), ("MRA", "metallic roughness occlusion"))),
            ("RAM", "roughness occlusion metallic"),
            ("MAR", "metallic occlusion roughness"),
            ("ARMH", "occlusion roughness metallic height"),
            ("MaskMap", "metallic occlusion gloss"),
            ("mask_map", "metallic occlusion gloss"),
            ("MetallicSmoothness", "metallic gloss"),
            ("SpecGloss", "specular gloss"),
            ("NormalHeight", "normal height"),
            ("AlbedoTransparency", "diffuse opacity"),
        ],
    )
    def test_packed_files_are_taken_apart_as_their_names_say(self, tmp_path, word, roles):
        rng = np.random.default_rng(3)
        channel = {
            role: rng.integers(130, 256, (64, 64), dtype=np.uint8) for role in ["occlusion", "roughness", "height", "gloss"]
        }
        channel |= {role: 255 * rng.integers(0, 2, (64, 64), dtype=np.uint8) for role in ("metallic", "opacity")}
        wide = {"specular": colour(), "diffuse": colour(), "normal": normals()}
        held = roles.split()
        if held[0] in wide:
            texels = np.dstack([wide[held[0]], channel[held[1]]])
        elif held == ["metallic", "gloss"]:
            texels = np.dstack([channel["metallic"]] * 3 + [channel["gloss"]])
        elif "gloss" in held:
            texels = np.dstack([channel["metallic"], channel["occlusion"], channel["gloss"] * 0, channel["gloss"]])
        else:
            texels = np.dstack([channel[role] for role in held])
        for name, made in {"crate_d": colour, "crate_n": normals}.items():
            if {"d": "diffuse", "n": "normal"}[name[-1]] not in held:
                write_image(tmp_path / f"{name}.png", made())
        write_image(tmp_path / f"crate_{word}.png", texels)
        (one,) = jq.gather(tmp_path).sets
        taken = next(each for each in one.maps if each.file.stem == f"crate_{word}")
        assert list(dict.fromkeys(role.key for role in taken.roles if role)) == held
        maps = one.source().read().maps
        if "gloss" in held:
            assert np.allclose(maps[R.ROUGHNESS].values[..., 0], 1 - channel["gloss"] / 255, atol=3e-3)
        if "specular" in held:
            assert np.array_equal(maps[R.SPECULAR].texels, colour())

    def test_a_tile_has_the_proportions_of_its_maps(self, tmp_path):
        for word, made in {"d": colour, "n": normals}.items():
            write_image(tmp_path / "wide" / f"plank_{word}.png", np.concatenate([made()] * 4, axis=1))
        assert jquilt("gather", "wide", "--into", "m.quilt.toml", cwd=tmp_path)[0] == 0
        assert "tile = [2, 0.5]" in (tmp_path / "m.quilt.toml").read_text()
        document = json.loads(jquilt("check", "m.quilt.toml", "--json", cwd=tmp_path)[1])
        assert "not square" not in {each["kind"] for each in document["findings"]}


class TestCommand:
    def test_proposed_commands_can_be_pasted(self, tmp_path):
        for word, made in {"d": colour, "n": normals}.items():
            write_image(tmp_path / "heap" / f"kiln_{word}.png", made())
        _, said, _ = jquilt("gather", "heap", "--into", "my materials.quilt.toml", cwd=tmp_path)
        assert "next: jquilt check 'my materials.quilt.toml'" in said

    def test_no_color_takes_all_colour_away(self, tmp_path):
        write_image(tmp_path / "heap" / "kiln_d.png", colour())
        write_image(tmp_path / "heap" / "kiln_n.png", flipped(normals()))
        jquilt("gather", "heap", "--into", "m.quilt.toml", cwd=tmp_path)
        words = [sys.executable, "-m", "jagged_quilt", "check", "m.quilt.toml"]
        seen = {}
        for value in ("", "1"):
            own, other = pty.openpty()
            subprocess.run(words, cwd=tmp_path, stdout=other, stderr=other, env={**os.environ, "NO_COLOR": value}, check=False)
            os.close(other)
            seen[value] = b""
            with contextlib.suppress(OSError):
                while part := os.read(own, 65536):
                    seen[value] += part
            os.close(own)
        assert b"\x1b[31mfault" in seen[""]
        assert b"\x1b[3" not in seen["1"]

    def test_the_file_is_as_reviewed(self, home):
        """Every line of it was looked at; what changes in it is to be looked at again."""
        code, said, errors = jquilt("gather", "downloads", "--into", "materials.quilt.toml", cwd=home)
        assert (code, errors) == (0, "")
        assert "materials.quilt.toml: 15 sets written." in said
        assert (home / "materials.quilt.toml").read_text() == EXPECTED.read_text()

    def test_it_is_found_clean_after_mending_once(self, home):
        jquilt("gather", "downloads", "--into", "m.quilt.toml", cwd=home)
        _, said, _ = jquilt("check", "m.quilt.toml", "--mend", cwd=home)
        assert 'written: swatch "' in said
        assert "tile = 2.0                        # metres" in (home / "m.quilt.toml").read_text()
        code, said, _ = jquilt("check", "m.quilt.toml", "--mend", cwd=home)
        assert code == 0, said
        assert "written" not in said
        assert len(said.splitlines()) < 15 + 6

    def test_again_it_adds_what_is_new_and_keeps_what_stands(self, home):
        jquilt("gather", "downloads", "--into", "m.quilt.toml", cwd=home)
        path = home / "m.quilt.toml"
        own = path.read_text().replace("tile = 2.0 ", "tile = 7.5 ", 1) + "\n# my own word\n"
        path.write_text(own)
        assert "nothing new; it stays as it is" in jquilt("gather", "downloads", "--into", "m.quilt.toml", cwd=home)[1]
        assert path.read_text() == own
        write_image(home / "downloads" / "new" / "pumice_albedo.png", colour())
        shutil.rmtree(home / "downloads" / "chalk")
        code, said, _ = jquilt("gather", "downloads", "--into", "m.quilt.toml", cwd=home)
        assert code == 0
        assert 'gone: swatch "chalk": its files are not there any more' in said
        assert "1 set written, beside 15 that stand there" in said
        assert path.read_text().startswith(own.rstrip("\n"))
        assert jq.read_quilt(path).sources[-1].name == "pumice"

    def test_with_a_ground_bake_works_at_once(self, home):
        write_image(home / "hills.png", (60000 * waves(33)).astype(np.uint16))
        ground = ["--terrain", "hills.png", "--size", "64,64", "--heights", "0,9"]
        code, _, errors = jquilt("gather", "downloads/tiles", "--into", "m.quilt.toml", *ground, cwd=home)
        assert (code, errors) == (0, "")
        code, _, errors = jquilt("bake", "m.quilt.toml", "--texels", "32", cwd=home)
        assert code == 0, errors
        assert (home / "out" / "bake" / "normal.png").is_file()
        text = (home / "m.quilt.toml").read_text()
        assert text.count("[[layer]]") == len(jq.read_quilt(home / "m.quilt.toml").layers) >= 2
        code, _, errors = jquilt("gather", "downloads", "--into", "x.quilt.toml", "--terrain", "hills.png", cwd=home)
        assert code == 2
        assert "--terrain, --size and --heights go together" in errors

    def test_layers_are_added_to_a_file_that_has_a_ground(self, home):
        code, _, errors = jquilt("gather", "downloads/tiles", "--into", "x.quilt.toml", "--layers", cwd=home)
        assert (code, (home / "x.quilt.toml").exists()) == (2, False)
        assert "layers lie on a ground, and there is none; name one with --terrain" in errors
        write_image(home / "hills.png", (60000 * waves(33)).astype(np.uint16))
        surface = '[surface]\nterrain = "hills.png"\nsize = [64.0, 64.0]\nheights = [0.0, 9.0]\n'
        (home / "x.quilt.toml").write_text(surface)
        assert jquilt("gather", "downloads/tiles", "--into", "x.quilt.toml", "--layers", cwd=home)[0] == 0
        text = (home / "x.quilt.toml").read_text()
        assert text.startswith(surface)
        assert text.count("[[layer]]") >= 2

    def test_a_folder_is_checked_without_writing(self, home):
        before = sorted(home.rglob("*"))
        code, said, _ = jquilt("check", "downloads", cwd=home)
        assert code == 1
        assert "hatch1b" in said
        assert sorted(home.rglob("*")) == before
        document = json.loads(jquilt("check", "downloads", "--json", cwd=home)[1])
        assert len(document["swatches"]) == 15
        facts = json.loads(jquilt("gather", "downloads", "--into", "m.quilt.toml", "--json", cwd=home)[1])
        assert len(facts["sets"]) == 15
        assert facts["unread"] == ["downloads/bazaar/notes.psd"]

    def test_words_of_a_family_stand_in_the_file(self, home):
        (home / "heap").mkdir()
        write_image(home / "heap" / "kiln_paint.png", colour())
        write_image(home / "heap" / "kiln_q.png", grey())
        (home / "m.quilt.toml").write_text(
            '[names]\n"_paint" = "diffuse"\n"_q" = "height"\n[[swatch]]\nname = "x"\nfolder = "x"\ntile = 1.0\n'
        )
        shutil.copytree(home / "downloads" / "salt pan", home / "x")
        code, _, errors = jquilt("gather", "heap", "--into", "m.quilt.toml", cwd=home)
        assert (code, errors) == (0, "")
        assert {role.key for role in jq.read_quilt(home / "m.quilt.toml").sources[-1].sources} == {"diffuse", "height"}


BUMPS = {
    "d": lambda: np.rint(bumps()[..., None] * (90, 70, 50) + 60).astype(np.uint8),
    "n": lambda: normals(0.1, bumps()),
    "h": lambda: np.rint(255 * bumps())[..., None].astype(np.uint8),
}


class TestMend:
    """Each kind of fault, planted in a set of its own: found, mended by the command, and clean after."""

    @pytest.mark.parametrize(
        ("kind", "spoil"),
        [
            ("green", {"n": lambda: flipped(normals())}),
            ("height inverted", {"h": lambda: 255 - grey()}),
            ("no z", {"n": lambda: np.dstack([normals(0.5)[..., :2], np.full((64, 64), 255, np.uint8)])}),
            ("swapped", {"n": lambda: np.ascontiguousarray(normals()[..., [1, 0, 2]])}),
            ("looks encoded", {"rough": lambda: encoded(np.random.default_rng(2).integers(0, 256, (256, 256, 1)))}),
            ("looks linear", {"d": lambda: linear(np.random.default_rng(3).integers(60, 256, (256, 256, 3)))}),
            ("constant", {"rough": lambda: np.full((64, 64, 1), 90, np.uint8)}),
            ("stairs", {"h": lambda: grey() // 16 * 16}),
            ("seam", {"d": lambda: colour()[:43, :43], "n": lambda: normals()[:43, :43], "h": lambda: grey()[:43, :43]}),
            ("same map twice", {"rough": grey, "ao": grey}),
            ("unreal specular", {"s": lambda: np.full((64, 64, 3), 150, np.uint8) + colour() // 20}),
            ("upside down", BUMPS | {"n": lambda: normals(0.1, bumps())[::-1].copy()}),
            ("upside down", BUMPS | {"h": lambda: np.rint(255 * bumps())[::-1, :, None].astype(np.uint8)}),
        ],
    )
    def test_a_planted_fault_is_mended_at_once(self, tmp_path, kind, spoil):
        heap = tmp_path / "heap"
        for word, made in ({"d": colour, "n": normals, "h": grey} | spoil).items():
            write_image(heap / f"kiln_{word}.png", made())
        jquilt("gather", "heap", "--into", "m.quilt.toml", cwd=tmp_path)
        _, reported, _ = jquilt("check", "m.quilt.toml", "--json", cwd=tmp_path)
        assert kind in {each["kind"] for each in json.loads(reported)["findings"] if each["level"] == "fault"}
        code, said, _ = jquilt("check", "m.quilt.toml", "--mend", cwd=tmp_path)
        assert code == 0, said
        assert f"({kind})" in said

    def test_a_packed_file_beside_it_is_no_hindrance(self, tmp_path):
        for word, made in {"d": colour, "n": lambda: flipped(normals()), "h": grey, "orm": packed}.items():
            write_image(tmp_path / "kiln" / f"kiln_{word}.png", made())
        block = '[[swatch.map]]\nfile = "kiln_orm.png"\npacked = "gltf"\n'
        (tmp_path / "m.quilt.toml").write_text('[[swatch]]\nname = "kiln"\nfolder = "kiln"\ntile = 2.0\n' + block)
        code, said, _ = jquilt("check", "m.quilt.toml", "--mend", cwd=tmp_path)
        assert code == 0, said
        assert "(green)" in said

    def test_what_cannot_be_known_is_no_line(self, tmp_path):
        """Normals of two directions in one map; an alpha that nobody mentions."""
        fine = jq.convert.normal_from_height(0.006 * fine_grain(), tile=(2.0, 2.0))
        both = jq.convert.normal_from_height(0.15 * waves(256), tile=(2.0, 2.0)) * (1, -1, 1)
        mixed = np.rint(127.5 * jq.convert.reoriented(both.astype(np.float32), fine) + 127.5).astype(np.uint8)
        relief = 0.15 * waves(256) + 0.006 * fine_grain()
        write_image(tmp_path / "kiln_n.png", mixed)
        write_image(tmp_path / "kiln_h.png", np.rint(relief / relief.max() * 65535).astype(np.uint16))
        cut = np.concatenate([colour(256), 255 * (grey(256) > 120).astype(np.uint8)], axis=2)
        write_image(tmp_path / "kiln_d.png", cut)
        source = jq.gather(tmp_path).sets[0].source()
        found = {each.kind: each for each in jq.audit.audit_swatch(source, side=256).findings}
        assert "in large forms" in found["mixed green"].measured
        assert found["mixed green"].mend == ""
        assert "green" not in found
        assert "a cut-out, by the 100 % of it that is black or white" in found["alpha"].what


class TestPack:
    def test_all_that_is_broken_is_reported_before_anything_is_read(self, home):
        jquilt("gather", "downloads", "--into", "m.quilt.toml", cwd=home)
        for name in ("bazaar/kelp_n.png", "bazaar/meadow.png"):
            (home / "downloads" / name).write_bytes(b"nothing")
        code, _, errors = jquilt("pack", "m.quilt.toml", cwd=home)
        assert code == 2
        assert "kelp_n.png" in errors
        assert "meadow.png" in errors
        assert "--leave-out goes on without them" in errors
        assert not (home / "out" / "arrays").exists()
        code, _, errors = jquilt("pack", "m.quilt.toml", "--leave-out", cwd=home)
        assert (code, errors) == (0, "warning: left out, since they cannot be read: kelp, meadow\n")

    def test_known_faults_are_reported(self, home):
        jquilt("gather", "downloads/salt pan", "--into", "m.quilt.toml", cwd=home)
        assert jquilt("check", "m.quilt.toml", cwd=home)[0] == 1
        code, _, errors = jquilt("pack", "m.quilt.toml", cwd=home)
        assert (code, errors) == (0, "warning: faults are known of 1 swatches: salt pan (1); jquilt check tells them\n")


class TestNew:
    """A project to begin with."""

    def test_it_bakes_as_it_is(self, tmp_path):
        code, said, errors = jquilt("new", "hills", cwd=tmp_path)
        assert (code, errors) == (0, "")
        assert "next: jquilt show hills/hills.quilt.toml view" in said
        text = (tmp_path / "hills" / "hills.quilt.toml").read_text()
        assert text.startswith("#:schema quilt.schema.json\n")
        assert json.loads((tmp_path / "hills" / "quilt.schema.json").read_text())["$defs"]
        code, _, errors = jquilt("bake", "hills/hills.quilt.toml", "--texels", "64", cwd=tmp_path)
        assert code == 0, errors
        weights = jq.open_weights(tmp_path / "hills" / "out" / "weights")
        assert all(weights.layer(name).mean() > 0.02 for name in weights.names)

    def test_textures_become_layers_where_they_would_lie(self, tmp_path):
        colours = {
            "a": (235, 238, 240),
            "b": (60, 110, 50),
            "c": (118, 117, 115),
            "d": (50, 90, 170),
            "old brick": (140, 70, 50),
        }
        for name, shade in colours.items():
            write_image(tmp_path / "loads" / name / f"{name}_diffuse.png", np.full((64, 64, 3), shade, np.uint8))
        code, _, errors = jquilt("new", "place", "--from", "loads", cwd=tmp_path)
        assert (code, errors) == (0, "")
        quilt = jq.read_quilt(tmp_path / "place" / "place.quilt.toml")
        kinds = {layer.swatch: repr(layer.mask) for layer in quilt.layers}
        assert list(kinds) == ["b", "c", "d", "a"]
        assert kinds["b"] == "None"
        assert kinds["c"].startswith("Slope(low=")
        assert all("HeightBand" in kinds[name] for name in ("d", "a"))
        assert '# no layer for "old brick": "brick" is made' in (tmp_path / "place" / "place.quilt.toml").read_text()

    def test_a_heightmap_alone_is_enough_and_guesses_are_reported(self, tmp_path):
        write_image(tmp_path / "ground.png", (60000 * waves(33)).astype(np.uint16))
        code, said, errors = jquilt("new", "place", "--terrain", "ground.png", cwd=tmp_path)
        assert (code, errors) == (0, "")
        assert "guessed: [surface] size; write what is right" in said
        assert jq.read_quilt(tmp_path / "place" / "place.quilt.toml").terrain.size == (32.0, 32.0)

    @pytest.mark.parametrize(
        ("words", "said"),
        [
            (["new", "full"], "full: holds files already; name a new folder"),
            (["new", "x", "--from", "full"], "holds no set of maps with a colour map; nothing is written"),
            (["new", "x", "--from", "ful"], 'did you mean "full"'),
            (["new", "x", "--size", "4,4"], "name it with --terrain"),
            (["new", "x", "--terrain", "none.png"], "none.png"),
            (["new", "x", "--terrain", "full/notes.txt", "--size", "4,4", "--heights", "0,1"], "notes.txt"),
        ],
    )
    def test_what_cannot_be_begun_writes_nothing(self, tmp_path, words, said):
        (tmp_path / "full").mkdir()
        (tmp_path / "full" / "notes.txt").write_text("mine")
        code, _, errors = jquilt(*words, cwd=tmp_path)
        assert code == 2
        assert said in errors
        assert not (tmp_path / "x").exists()
