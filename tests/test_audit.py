"""The audit: every planted fault is found, nothing else is, and what it says to write mends it."""

import json
import re
import warnings

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import jagged_quilt as jq
from conftest import jquilt, made_maps
from jagged_quilt.audit import measures as m
from jagged_quilt.audit.audit import audit_swatch, audit_together
from jagged_quilt.demo.project import write_project
from jagged_quilt.foundation.colour import linear_from_srgb, srgb_from_linear
from jagged_quilt.images import read_image, write_image
from jagged_quilt.maps.conversions import normal_from_height
from jagged_quilt.quiltfile.mend import write_mends

R = jq.MapRole


@pytest.fixture(scope="module")
def clean(tmp_path_factory):
    """The demo with maps of 256 texels."""
    return write_project(tmp_path_factory.mktemp("audit") / "saltworks", texels=256)


@pytest.fixture
def project(clean, tmp_path):
    """A copy to spoil."""
    write_project(tmp_path / "own", texels=8)
    for path in clean.parent.rglob("*.png"):
        (tmp_path / "own" / path.relative_to(clean.parent)).write_bytes(path.read_bytes())
    return tmp_path / "own" / clean.name


class Map:
    """One map file of a project, to read and to change."""

    def __init__(self, project, swatch, role):
        self.path = project.parent / "swatches" / swatch / f"{swatch}_{role}.png"

    def change(self, how):
        write_image(self.path, np.ascontiguousarray(how(read_image(self.path))))


def eighths(values):
    return np.rint(np.clip(values, 0, 1) * 255).astype(np.uint8)


def green_round(texels):
    return np.dstack([texels[..., 0], 255 - texels[..., 1], texels[..., 2]])


def recoded(curve):
    return lambda texels: eighths(curve(texels / 255.0))


def without_z(texels):
    return np.dstack([texels[..., :2], np.full_like(texels[..., 0], 255)])


def shorter(texels):
    return eighths((texels / 127.5 - 1) * 0.8 * 0.5 + 0.5)


def few_levels(texels):
    return np.rint(np.rint(texels / 65535 * 19) / 19 * 255).astype(np.uint8)


def spoil_ten(project):
    """Plant ten faults, and return them as (kind, swatch, role)."""
    folder = project.parent / "swatches"
    Map(project, "cracked_clay", "normal").change(green_round)
    Map(project, "salt_crust", "normal").change(green_round)
    Map(project, "salt_crust", "height").path.unlink()
    Map(project, "raked_gravel", "diffuse").change(recoded(linear_from_srgb))
    Map(project, "layered_gypsum", "height").change(lambda texels: 65535 - texels)
    Map(project, "weathered_planks", "normal").change(without_z)
    Map(project, "weathered_planks", "height").change(few_levels)
    Map(project, "cracked_clay", "specular").change(
        lambda texels: eighths(0.42 + 0.15 * (texels - texels.min()) / np.ptp(texels))
    )
    roughness = (folder / "layered_gypsum" / "layered_gypsum_roughness.png").read_bytes()
    Map(project, "layered_gypsum", "occlusion").path.write_bytes(roughness)
    Map(project, "raked_gravel", "roughness").change(lambda texels: np.full_like(texels, 190))
    for path in (folder / "brine").iterdir():
        write_image(path, np.ascontiguousarray(read_image(path)[:181, :181]))
    return {
        ("green", "cracked clay", "normal"),
        ("green", "salt crust", "normal"),
        ("looks linear", "raked gravel", "diffuse"),
        ("height inverted", "layered gypsum", "height"),
        ("no z", "weathered planks", "normal"),
        ("stairs", "weathered planks", "height"),
        ("unreal specular", "cracked clay", "specular"),
        ("same map twice", "layered gypsum", "occlusion"),
        ("constant", "raked gravel", "roughness"),
        ("seam", "brine", None),
    }


SOME = ("cracked clay", "salt crust")


def faults_of(project, names=()):
    """The faults of all swatches, or of those of some names."""
    sources = [source for source in jq.read_quilt(project).sources if not names or source.name in names]
    return [each for source in sources for each in audit_swatch(source, side=256).faults]


def mend(project, findings):
    assert all(each.mend for each in findings)
    write_mends(project, findings)


class TestCheck:
    def test_the_demo_is_clean(self, clean):
        code, said, errors = jquilt("check", clean)
        assert (code, errors) == (0, "")
        assert "Nothing is wrong, 9 notes " in said  # that packing at 512 enlarges maps of 256

    def test_ten_planted_faults_are_found_and_mended(self, project):
        planted = spoil_ten(project)
        code, said, _ = jquilt("check", project)
        assert code == 1
        assert "10 faults" in said
        code, document, _ = jquilt("check", project, "--json")
        assert code == 1
        document = json.loads(document)
        found = [each for each in document["findings"] if each["level"] == "fault"]
        assert {(each["kind"], each["swatch"], None if each["kind"] == "seam" else each["role"]) for each in found} == planted
        assert (document["faults"], len(found)) == (10, 10)
        assert all(
            each["measured"] and each["file"] and each["mend"] in said.replace("\n    ", "\n").replace("    ", "")
            for each in found
        )
        mend(project, faults_of(project))
        code, said, errors = jquilt("check", project)
        assert (code, errors) == (0, ""), said
        assert jquilt("pack", project)[0] == 0

    def test_reading_in_python_warns_of_each_with_the_argument_that_mends_it(self, project):
        planted, told = spoil_ten(project), set()
        for source in jq.read_quilt(project).sources:
            arguments = {}
            with warnings.catch_warnings(record=True) as caught:
                warnings.simplefilter("always")
                jq.read_swatch(source.folder, tile=2.0)
            for each in caught:
                assert (each.category, each.filename) == (jq.QuiltWarning, __file__)
                words, _, mend = str(each.message).partition("; to mend it: ")
                told.add((source.name, words.split(": ")[2 if ".png" in words.split(": ")[1] else 1]))
                for key, value in eval(f"dict({mend})", {"jq": jq}).items():
                    arguments[key] = [*arguments.get(key, []), *value] if key == "rules" else value
            jq.read_swatch(source.folder, tile=2.0, **arguments)
        assert told >= {(swatch, role) for _, swatch, role in planted if role}
        assert {swatch for swatch, _ in told} == {swatch for _, swatch, _ in planted}

    @pytest.mark.parametrize(
        ("kind", "role", "how"),
        [
            ("looks encoded", "normal", recoded(srgb_from_linear)),
            ("looks encoded", "roughness", lambda t: recoded(srgb_from_linear)(np.rint(t * 0.2))),
            ("looks encoded", "height", lambda t: np.rint(srgb_from_linear(t / 65535.0) * 65535).astype(np.uint16)),
            ("upside down", "normal", lambda t: t[::-1]),
            ("upside down", "height", lambda t: t[::-1]),
            ("upside down", "occlusion", lambda t: t[::-1]),
            ("swapped", "normal", lambda t: t[..., [1, 0, 2]]),
            ("inwards", "normal", lambda t: np.dstack([t[..., :2], 255 - t[..., 2]])),
            ("unreal colour", "diffuse", lambda t: eighths(t / 255.0 * 0.15)),
            ("colour in a grey map", "roughness", lambda t: np.dstack([t, t, t // 2])),
            ("constant", "diffuse", lambda t: np.full_like(t, 90)),
        ],
    )
    def test_a_fault_of_its_own_is_found_and_mended(self, project, kind, role, how):
        Map(project, "cracked_clay", role).change(how)
        found = faults_of(project, SOME)
        assert [(each.kind, each.role, each.swatch) for each in found] == [(kind, role, "cracked clay")]
        if kind != "unreal colour" or found[0].mend:
            mend(project, found)
            after = faults_of(project, SOME)
            if role == "diffuse":  # its own colours are gone: what is left is that it is one colour, or still unreal
                assert {each.kind for each in after} <= {kind, "constant", "unreal colour", "looks encoded"}, after
            else:
                assert after == []

    @pytest.mark.parametrize(
        ("role", "how", "words"),
        [
            (
                "diffuse",
                lambda t: np.roll(t, (t.shape[0] // 2, t.shape[1] // 4), (0, 1)),
                "shifted .* by 25 % of its width to the right and 50 %",
            ),
            ("specular", lambda t: np.rot90(t), "turned by 270 degrees, it fits"),
            ("normal", lambda t: np.rot90(t), "turned by 270 degrees, it fits"),
            ("height", lambda t: t[: t.shape[0] // 2, : t.shape[1] // 2].repeat(2, 0).repeat(2, 1), "enlarged twice"),
        ],
    )
    def test_a_map_that_lies_otherwise_than_the_rest_is_a_fault(self, project, role, how, words):
        """Of the set that has it, and of no other."""
        Map(project, "cracked_clay", role).change(lambda texels: np.ascontiguousarray(how(texels)))
        found = [each for each in faults_of(project, SOME) if each.kind != "seam"]  # what is cut out repeats with one
        assert [(each.kind, each.role, each.swatch) for each in found] == [("misplaced", role, "cracked clay")], found
        assert re.search(words, found[0].what), found[0].what

    def test_a_map_of_another_material_is_noted(self, project):
        other = Map(project, "raked_gravel", "normal")
        Map(project, "cracked_clay", "normal").path.write_bytes(other.path.read_bytes())
        clay = next(each for each in jq.read_quilt(project).sources if each.name == "cracked clay")
        kinds = {(each.kind, each.role) for each in audit_swatch(clay, side=256).findings}
        assert ("unrelated", "normal") in kinds
        assert not [each for each in kinds if each[0] == "unrelated" and each[1] != "normal"]

    def test_normals_that_are_too_short_are_left_as_they_are_stored(self, project):
        """They are normalised as they are read; rebuilding z from red and green would turn them."""
        Map(project, "cracked_clay", "normal").change(shorter)
        clay = next(each for each in jq.read_quilt(project).sources if each.name == "cracked clay")
        found = [each for each in audit_swatch(clay, side=256).findings if each.kind == "not unit"]
        assert [(each.level, each.mend) for each in found] == [("note", "")]

    def test_two_mends_of_one_map_do_not_undo_each_other(self, project):
        Map(project, "cracked_clay", "normal").change(lambda texels: without_z(green_round(texels)))
        found = faults_of(project, SOME)
        assert {each.kind for each in found} == {"green", "no z"}
        mend(project, found)
        assert faults_of(project, SOME) == []

    def test_files_that_cannot_be_used_are_findings(self, project):
        """Every one of them, though each swatch alone would stop a reading."""
        clay, salt, gravel, brine = (
            project.parent / "swatches" / n for n in ("cracked_clay", "salt_crust", "raked_gravel", "brine")
        )
        (clay / "cracked_clay_normal.png").write_bytes(b"\x89PNG nothing")
        write_image(salt / "salt_crust_albedo.png", np.zeros((4, 4, 3), np.uint8))
        (salt / "salt_crust_occlusion.png").write_bytes(b"nothing")
        packed = np.dstack([read_image(gravel / f"raked_gravel_{n}.png") for n in ("occlusion", "roughness", "roughness")])
        packed[..., 2] = 0
        write_image(gravel / "gravel_orm.png", packed)
        for name in ("occlusion", "roughness"):
            (gravel / f"raked_gravel_{name}.png").unlink()
        (brine / "notes.png").write_bytes((brine / "brine_height.png").read_bytes())
        found = faults_of(project)
        assert sorted((each.kind, each.swatch) for each in found) == [
            ("cannot be read", "cracked clay"),
            ("cannot be read", "salt crust"),
            ("packed file", "raked gravel"),
            ("two files", "salt crust"),
        ]
        mend(project, found)
        assert faults_of(project) == []
        quilt = jq.read_quilt(project)
        gravel = next(each for each in quilt.sources if each.name == "raked gravel").read()
        assert np.array_equal(gravel.maps[R.ROUGHNESS].texels[..., 0], packed[..., 1])
        said = jquilt("check", project, "--notes")[1]
        assert "notes.png fits no role" in said
        assert 'swatch "cracked clay": no normal map; made from height' in said

    def test_notes_are_not_faults(self, tmp_path):
        maps = made_maps(0, side=64)
        for name in "ab":
            write_image(
                tmp_path / name / "x_diffuse.png", np.dstack([maps[R.DIFFUSE].texels, np.full((64, 64), 200, np.uint8)])
            )
        write_image(tmp_path / "a" / "x_occlusion.png", np.zeros((32, 32), np.uint8) + np.arange(32, dtype=np.uint8))
        audits = [audit_swatch(jq.SwatchSource(name=n, folder=tmp_path / n, tile=1.0), side=128) for n in "ab"]
        kinds = {each.kind for each in audits[0].findings if each.level == "note"}
        assert {"empty alpha", "sizes", "enlarged", "neutral"} <= kinds
        assert [each.kind for each in audit_together(audits)] == ["shared map"]
        wide = np.ascontiguousarray(maps[R.DIFFUSE].texels[:32])
        write_image(tmp_path / "c" / "x_diffuse.png", wide)
        found = audit_swatch(jq.SwatchSource(name="c", folder=tmp_path / "c", tile=1.0), side=16).findings
        assert 'fit = "repeat"\n' in [each.mend for each in found]


class TestMeasures:
    @given(st.integers(0, 10**6), st.sampled_from([1.0, -1.0]), st.sampled_from([1.0, -1.0]))
    @settings(max_examples=20, deadline=None)
    def test_green_and_height_are_reported_by_their_slopes(self, seed, green, sense):
        """On random reliefs: by the height map, and by the curl alone."""
        from scipy.ndimage import gaussian_filter

        relief = gaussian_filter(np.random.default_rng(seed).random((48, 48)), 1.5, mode="wrap").astype(np.float32)
        normals = normal_from_height(relief, tile=(2.0, 2.0)) * np.array([1, green, 1], np.float32)
        u, v = m.agreement(normals, sense * relief)
        assert (np.sign(u), np.sign(v)) == (sense, sense * green)
        assert min(abs(u), abs(v)) > 0.9
        assert (m.curl_share(normals) > 0.9) == (green < 0)
        assert (m.curl_share(normals) < 0.1) == (green > 0)

    @given(st.integers(0, 10**6), st.integers(1, 8))
    @settings(max_examples=25, deadline=None)
    def test_a_repeat_has_no_seam_and_a_piece_of_it_has(self, seed, blur):
        from scipy.ndimage import gaussian_filter

        noise = np.random.default_rng(seed).random((128, 128))
        whole = gaussian_filter(noise, blur / 2 + 0.5, mode="wrap").astype(np.float32)
        whole = (whole - whole.mean()) / whole.std() * np.float32(0.1) + np.float32(0.5)
        assert m.seam_of(whole[..., None]).worst < 0.25
        piece = m.seam_of(whole[:90, :87, None])
        assert piece.worst > m.seam_of(whole[..., None]).worst
        turned = m.seam_of(np.roll(whole, (13, 40), (0, 1))[..., None])
        assert turned.worst < 0.25
        assert m.seam_of(whole[:90, :87, None].transpose(1, 0, 2)) == m.Seam(piece.ends, piece.sides)
        assert m.seam_of(np.full((32, 32, 1), 0.5, np.float32)) == (0, 0)

    def test_conversion_leaves_gaps_and_only_conversion_does(self):
        rng = np.random.default_rng(0)
        natural = np.clip(rng.normal(150, 45, (200, 200)), 0, 255).astype(np.uint8)
        decoded, encoded = recoded(linear_from_srgb)(natural), recoded(srgb_from_linear)(natural // 5)
        there, expected = m.missing_codes(natural, encoded=False)
        assert there > 0.8 * expected > 1000
        assert m.missing_codes(decoded, encoded=False)[0] == 0
        assert m.missing_codes(encoded, encoded=True)[0] == 0
        assert m.missing_codes(natural // 5, encoded=True)[0] > 1000

    def test_lengths(self):
        vectors = np.zeros((10, 10, 3), np.float32)
        vectors[..., 2] = np.linspace(0.5, 1.5, 100).reshape(10, 10)
        vectors[0, 0, 2] = -1
        found = m.lengths_of(vectors)
        assert (found.lowest, found.highest) == pytest.approx((0.52, 1.49), abs=0.02)
        assert found.inwards == 0.01


class TestSheet:
    def test_it_shows_maps_ball_repeat_and_findings(self, project):
        """Whether all is well, something is wrong, or nothing could be read."""
        from jagged_quilt.show.audit_sheet import audit_sheet, worst_seam

        Map(project, "cracked_clay", "normal").change(green_round)
        (project.parent / "swatches" / "brine" / "brine_diffuse.png").write_bytes(b"broken")
        write_image(project.parent / "swatches" / "salt_crust" / "x_albedo.png", np.zeros((4, 4, 3), np.uint8))
        quilt = jq.read_quilt(project)
        audits = {source.name: audit_swatch(source, side=256) for source in quilt.sources}
        boards = {name: audit_sheet(each).pixels() for name, each in audits.items()}
        assert all(board.shape == (800, 1280, 3) for board in boards.values())
        frame = boards["cracked clay"][80:206, 154:280]  # around the normal map
        assert (frame[0] == (255, 141, 122)).all()
        assert not (boards["raked gravel"][80, 154:280] == (255, 141, 122)).all()
        assert audits["brine"].read() is None
        assert np.ptp(boards["brine"][320:700, 30:400].astype(int)) < 10  # no ball is drawn of what could not be read
        assert np.ptp(boards["raked gravel"][320:700, 30:400].astype(int)) > 100
        assert worst_seam(audits["raked gravel"], audits["raked gravel"].read()) in jq.SURFACE_ROLES

    def test_a_ball_is_lit_from_the_upper_left_and_bumps_turn_with_it(self):
        flat = jq.Swatch(
            name="f", tile=1, relief=1, maps={R.DIFFUSE: jq.TextureMap.of_values(R.DIFFUSE, np.full((4, 4, 3), 0.5))}
        )
        ball = jq.show.lit_ball(flat, 100).astype(int).sum(2)
        assert ball[30, 30] > ball[50, 50] > ball[75, 75]
        assert ball[2, 2] < 120
        right = np.broadcast_to(np.float32([0.5, 0, 0.866]), (4, 4, 3))
        tilted = jq.Swatch(name="t", tile=1, relief=1, maps={**flat.maps, R.NORMAL: jq.TextureMap.of_values(R.NORMAL, right)})
        assert jq.show.lit_ball(tilted, 100).astype(int).sum(2)[50, 50] < ball[50, 50]  # it looks away from the light

    @pytest.mark.parametrize("command", [["check"], ["show", "audit"]])
    def test_the_commands_tell_of_a_missing_folder(self, project, command):
        text = project.read_text().replace("swatches/brine", "swatches/brin")
        project.write_text(text)
        code, said, errors = jquilt(command[0], project, *command[1:])
        assert code == (1 if command == ["check"] else 0), errors
        if command == ["check"]:
            assert "there is no such swatch folder" in said
