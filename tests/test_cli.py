"""`jquilt` as a process: what it writes, what it says, and that refused input leaves everything as it was."""

import json
import os
import re
import resource
import shutil
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest

import jagged_quilt as jq
from conftest import QUILT, fresh_jquilt, jquilt, write_small_project
from jagged_quilt.images import read_image, write_image


def files_of(folder):
    """Every file below a folder with its bytes."""
    return {p.relative_to(folder): p.read_bytes() for p in sorted(folder.rglob("*")) if p.is_file()}


class TestSteps:
    def test_each_step_writes_its_folder_and_a_second_run_keeps_it(self, project):
        quilt = project / "job.quilt.toml"
        code, said, _ = jquilt("bake", quilt)
        assert code == 0
        out = project / "out"
        assert {p.name for p in (out / "bake").iterdir()} == {f"{r.key}.png" for r in jq.SURFACE_ROLES} | {"bake.json"}
        assert {p.name for p in (out / "arrays").iterdir()} == {
            "arrays.json",
            "inputs.json",
            "diffuse_height.ktx2",
            "normal_roughness_occlusion.ktx2",
            "specular.ktx2",
        }
        assert {p.name for p in (out / "weights").iterdir()} == {"layers_0.png", "weights_0.png", "lost.png", "weights.json"}
        assert read_image(out / "bake" / "height.png").dtype == np.uint16
        before = files_of(out)
        for step in ("pack", "weigh", "bake"):
            code, said, _ = jquilt(step, quilt)
            assert (code, "nothing changed" in said) == (0, True)
        assert files_of(out) == before
        quilt.write_text(QUILT.replace("softness", "").replace("fade = 0.5", "fade = 1.5"))
        assert "nothing changed" in jquilt("pack", quilt)[1]
        assert "nothing changed" not in jquilt("bake", quilt)[1]
        assert files_of(out / "arrays") == {p.relative_to("arrays"): b for p, b in before.items() if p.parts[0] == "arrays"}

    def test_the_same_bytes_on_one_thread_and_two(self, project):
        for threads in (1, 2):
            jquilt("bake", project / "job.quilt.toml", "--threads", threads, "--out", project / str(threads))
        one, two = (files_of(project / name) for name in "12")
        memo = Path("arrays/inputs.json")  # what the disk looked like
        assert {p: b for p, b in one.items() if p != memo and p.parts[0] != "made"} == {
            p: b for p, b in two.items() if p != memo and p.parts[0] != "made"
        }

    def test_check_tells_what_is_there_and_what_stands_in(self, project):
        """The project's maps are noise: the specular ones are too bright for any surface, and are told as well."""
        (project / "salt" / "salt_height.png").unlink()
        (project / "salt" / "salt_occlusion.png").unlink()
        write_image(project / "clay" / "holiday.png", np.zeros((2, 2, 3), np.uint8))
        code, said, _ = jquilt("check", project / "job.quilt.toml", "--notes")
        assert code == 1
        assert "17 x 17 samples over 16 x 16 m" in said
        assert 'swatch "salt": no height map; 0.5 stands in' in said
        assert "holiday.png fits no role" in said
        assert "2 faults, 3 notes." in said

    def test_each_step_says_what_it_wrote(self, project):
        """A line a file: its name, what is in it, its size."""
        quilt = project / "job.quilt.toml"
        packed = jquilt("pack", quilt)[1]
        assert re.search(r"diffuse_height\.ktx2 +2 slices of 16 x 16 with mips, 8 bit, sRGB, linear alpha +\d+ KiB", packed)
        assert re.search(r"normal_roughness_occlusion\.ktx2 +2 slices of 16 x 16 with mips, 8 bit, plain data", packed)
        weighed = jquilt("weigh", quilt)[1]
        assert re.search(r"weights_0\.png +32 x 32, 2 layers a texel: weights", weighed)
        shares = [float(share) for share in re.findall(r"^  (?:clay|salt) +([\d.]+) %$", weighed, re.M)]
        assert sum(shares) == pytest.approx(100, abs=0.15)
        assert "cut from texels with more layers: nothing on average, nothing at worst" in weighed
        baked = jquilt("bake", quilt, "--texels", 48)[1]
        assert re.search(r"normal\.png +48 x 48, 8 bit, tangent space, green up", baked)
        assert re.search(r"height\.png +48 x 48, 16 bit, white is 0\.05 m", baked)

    def test_pack_tells_what_block_codes_cost_and_what_was_kept(self, project):
        quilt = project / "job.quilt.toml"
        own = 'formats = { specular = "bc1" }\n[[arrays.layout]]\nname = "n"\nchannels = ["normal.x", "normal.y"]\nformat = "bc5"\n'
        quilt.write_text(QUILT.replace("[weights]", own + "[weights]"))
        said = jquilt("pack", quilt)[1]
        assert re.search(r"n\.ktx2 +2 slices of 16 x 16 with mips, BC5, 8 bits a texel, plain data", said)
        assert re.search(r"what block codes cost +specular \(bc1\) +n \(bc5\)", said)
        assert len(re.findall(r"^ (?:clay|salt) +[\d.]+ dB +[\d.]+ dB, [\d.]+° on average", said, re.M)) == 2
        write_image(project / "salt" / "salt_height.png", np.zeros((16, 16), np.uint8))
        assert "1 slices made, 7 kept as they were" in jquilt("pack", quilt)[1]

    def test_a_slow_start_says_that_it_compiles(self, project):
        """On standard error, and only then."""
        said = "compiling the kernels; only the first run needs this"
        for cold, wanted in ((["weigh"], True), ([], False)):
            code = (
                "import sys, jagged_quilt.results.warm as w, jagged_quilt.cli.main as m\n"
                f"w.cold, w.warm = lambda parts: {cold}, lambda *parts, **options: []\n"
                "sys.argv = ['jquilt', *sys.argv[1:]]\n"
                "m.main()"
            )
            done = subprocess.run(
                [sys.executable, "-c", code, "weigh", project / "job.quilt.toml"], capture_output=True, text=True
            )
            assert done.returncode == 0
            assert (said in done.stderr, said in done.stdout) == (wanted, False)

    def test_every_command_has_help(self):
        for step in ("demo", "check", "pack", "weigh", "bake", "show", "look", "warm"):
            code, said, _ = jquilt(step, "--help")
            assert code == 0
            assert said.startswith(f"Usage: jquilt {step}")

    def test_help_is_there_at_once(self):
        """Nothing heavy is imported for it."""
        assert all(step in fresh_jquilt("--help")[1] for step in ("demo", "check", "pack", "weigh", "bake", "show"))
        heavy = (
            "import sys, jagged_quilt.cli.main as m; [m.jquilt.get_command(None, c) for c in m.COMMANDS]; print(*sys.modules)"
        )
        loaded = subprocess.run([sys.executable, "-c", heavy], capture_output=True, text=True, check=True).stdout.split()
        assert not {"numpy", "numba", "scipy", "matplotlib", "pydantic"} & set(loaded)


class TestDemo:
    def test_one_command_makes_and_runs_the_whole_example(self, own_saltworks):
        """On small maps: the project is there, so the demo fills it with its own maps and runs all of it."""
        folder = own_saltworks.parent
        code, said, errors = jquilt("demo", folder, "--texels", 64)
        assert code == 0, errors
        for word in ("write", "check", "pack", "weigh", "bake", "show", "brine", "layered gypsum", "Next:"):
            assert word in said
        shares = [float(s) for s in re.findall(r"([\d.]+) %", said)]
        assert sum(shares) == pytest.approx(100, abs=0.4)
        for name in ("swatches", "weights", "maps", "view", "riser"):
            assert read_image(folder / "out" / "pictures" / f"{name}.png").shape == (800, 1280, 3)
        assert not list(folder.rglob(".*"))

    def test_the_terrain_is_what_it_should_be(self, saltworks):
        quilt = jq.read_quilt(saltworks)
        normal = quilt.terrain.points((512, 512)).normal
        steep = (normal[:, 1] < np.cos(np.pi / 4)).mean()
        assert 0.06 < steep < 0.14
        assert quilt.terrain.height_range == pytest.approx((0, 38))
        assert quilt.terrain.heights.shape == (513, 513)
        assert all(not swatch.missing for swatch in quilt.swatches)

    def test_a_folder_with_other_files_is_left_alone(self, tmp_path):
        (tmp_path / "mine.txt").write_text("mine")
        code, _, errors = jquilt("demo", tmp_path)
        assert (code, "holds other files" in errors) == (2, True)
        assert [p.name for p in tmp_path.iterdir()] == ["mine.txt"]


def change(old, new):
    def work(project):
        text = (project / "job.quilt.toml").read_text()
        assert old in text
        (project / "job.quilt.toml").write_text(text.replace(old, new))

    return work


def truncate(project):
    path = project / "salt" / "salt_normal.png"
    path.write_bytes(path.read_bytes()[:200])


def colour_ground(project):
    write_image(project / "ground.png", np.random.default_rng(0).integers(0, 255, (17, 17, 3), dtype=np.uint8))


def nan_map(project):
    (project / "salt" / "salt_height.png").unlink()
    write_image(project / "salt" / "salt_height.exr", np.full((4, 4, 1), np.nan, np.float32))


# ruff: noqa: E501
REFUSED = {
    "missing file": (lambda p: (p / "ground.png").unlink(), r"ground\.png: there is no such (heightmap|image file)"),
    "no diffuse": (
        lambda p: (p / "salt" / "salt_diffuse.png").unlink(),
        r'line 18, swatch\[1\]\.folder: .*"salt" has no diffuse',
    ),
    "truncated PNG": (truncate, r"salt_normal\.png: the image is broken or cut short"),
    "heightmap with colour": (
        colour_ground,
        r"line 3, surface\.terrain: .*a heightmap must be grey; red, green and blue differ by",
    ),
    "NaN in a float map": (nan_map, r"salt_height\.exr: holds 16 NaN or infinite values, the first at row 0, column 0"),
    "no folder": (lambda p: shutil.rmtree(p / "salt"), r"there is no such swatch folder"),
    "unknown key": (
        change("fade = 0.5", "fad = 0.5"),
        r'line 28, layer\[1\]\.mask\[0\]\.fad: unknown key; did you mean "fade"\?',
    ),
    "unknown table": (change("[bake]", "[bakery]"), r'line 10, bakery: unknown key; did you mean "bake"\?'),
    "missing key": (change("tile = 2.0\n", ""), r"line 12, swatch\[0\]\.tile: this key is missing"),
    "wrong type": (change("side = 16", 'side = "16"'), r"line 7, arrays\.side: must be a valid integer; got '16'"),
    "no power of two": (change("side = 16", "side = 20"), r"line 7, arrays\.side: .*nearest: 16 or 32"),
    "band upside down": (change("[1.0, 2.0]", "[2.0, 1.0]"), r"line 25, layer\[1\]\.mask\[0\]: height band is upside down"),
    "unknown kind": (change('"noise"', '"nois"'), r"mask\[1\]: unknown kind 'nois'; did you mean \"noise\"\?"),
    "unknown swatch": (
        change('swatch = "salt"', 'swatch = "slat"'),
        r'line 23, layer\[1\]\.swatch: .*"slat"; did you mean "salt"\?',
    ),
    "mask below": (
        change('swatch = "clay"', 'swatch = "clay"\n[[layer.mask]]\nkind = "constant"\nvalue = 1.0'),
        "lowest layer",
    ),
    "not TOML": (change("[bake]", "[bake"), r"not TOML: .*line 10"),
}


class TestSafety:
    @pytest.fixture(scope="class")
    @staticmethod
    def finished(tmp_path_factory):
        """A project with results, to be copied."""
        folder = write_small_project(tmp_path_factory.mktemp("finished"))
        assert jquilt("bake", folder / "job.quilt.toml")[0] == 0
        return folder

    @pytest.mark.parametrize("fault", REFUSED)
    def test_a_fault_gives_one_clear_line_and_leaves_results_alone(self, finished, tmp_path, fault):
        spoil, words = REFUSED[fault]
        project = tmp_path / "p"
        shutil.copytree(finished, project)
        before = files_of(project / "out")
        spoil(project)
        code, said, errors = jquilt("bake", project / "job.quilt.toml", "--force")
        assert code == 2
        assert said == ""
        assert re.search(words, errors), errors
        assert len(errors.splitlines()) == 1
        assert "Traceback" not in errors
        assert files_of(project / "out") == before

    def test_a_full_disk_leaves_earlier_results(self, finished, tmp_path):
        """A limit on the size of files stands in for the disk."""
        project = tmp_path / "p"
        shutil.copytree(finished, project)
        before = files_of(project / "out")
        limit = lambda: resource.setrlimit(resource.RLIMIT_FSIZE, (20_000, 20_000))
        env = {**os.environ, "PYTHONDONTWRITEBYTECODE": "1"}
        code, _, errors = fresh_jquilt("bake", project / "job.quilt.toml", "--texels", 512, preexec_fn=limit, env=env)
        assert code == 2, errors
        assert "cannot write" in errors
        assert len(errors.splitlines()) == 1
        assert files_of(project / "out") == before

    def test_out_that_is_a_file_is_refused(self, project):
        (project / "taken").write_text("mine")
        code, _, errors = jquilt("pack", project / "job.quilt.toml", "--out", project / "taken")
        assert (code, "a file is in the way" in errors) == (2, True)
        assert (project / "taken").read_text() == "mine"
        assert not (project / "out").exists()

    def test_a_heightmap_of_eight_bits_works_with_a_warning(self, project):
        write_image(project / "ground.png", (np.arange(289, dtype=np.uint16) // 50).astype(np.uint8).reshape(17, 17))
        code, _, errors = jquilt("weigh", project / "job.quilt.toml")
        assert code == 0
        assert re.search(r"^warning: .*lie on stairs of 0\.0157 m", errors, re.M)

    def test_wrong_words_are_refused(self, project):
        for words in (
            ["bakes"],
            ["bake"],
            ["bake", project / "job.quilt.toml", "--texels", "-4"],
            ["bake", project],
            ["bake", "no"],
        ):
            code, _, errors = jquilt(*words)
            assert code == 2, words
            assert errors
            assert "Traceback" not in errors
        assert "did you mean bake?" in jquilt("bakes")[2]

    def test_all_faults_of_a_file_are_reported_at_once(self, project):
        change("tile = 2.0", "tyle = 2.0")(project)
        errors = jquilt("check", project / "job.quilt.toml")[2].splitlines()
        assert [re.search(r"line (\d+)", e)[1] for e in errors] == ["12", "15"]


class TestShow:
    def test_chosen_pictures_are_drawn_and_no_others(self, project):
        code, said, errors = jquilt("show", project / "job.quilt.toml", "weights", "swatches", "--out", project / "here")
        assert code == 0, errors
        assert {p.name for p in (project / "here" / "pictures").iterdir()} == {"weights.png", "weights_2.png", "swatches.png"}
        assert "weights.png" in said

    def test_a_view_without_a_camera_sees_the_whole_terrain(self, project):
        assert jquilt("show", project / "job.quilt.toml", "view")[0] == 0
        picture = read_image(project / "out" / "pictures" / "view.png").astype(int)
        assert picture.shape == (800, 1280, 3)
        assert np.ptp(picture[350:500, 500:800]) > 30

    def test_a_refused_picture_leaves_the_others(self, project):
        quilt = project / "job.quilt.toml"
        jquilt("show", quilt, "weights")
        before = files_of(project / "out" / "pictures")
        (project / "salt" / "salt_diffuse.png").unlink()
        assert jquilt("show", quilt, "swatches")[0] == 2
        assert files_of(project / "out" / "pictures") == before


class TestExitCodes:
    def test_a_fault_of_our_own_is_kept_distinct_and_shown_with_debug(self, project):
        """Python is made to fail inside a command."""
        code = (
            "import sys, jagged_quilt.quiltfile.reading as q, jagged_quilt.cli.main as m\n"
            "q.read_quilt = lambda path: 1 / 0\n"
            "sys.argv = ['jquilt', *sys.argv[1:]]\n"
            "m.main()"
        )
        words = [sys.executable, "-c", code]
        plain = subprocess.run([*words, "check", "x"], capture_output=True, text=True)
        assert plain.returncode == 3
        assert plain.stderr.startswith("jquilt: a fault of our own, not of your input: ZeroDivisionError")
        assert "Traceback" in subprocess.run([*words, "--debug", "check", "x"], capture_output=True, text=True).stderr

    def test_a_closed_pipe_is_no_fault(self, project):
        line = f"{sys.executable} -m jagged_quilt check {project / 'job.quilt.toml'} | head -n 1"
        done = subprocess.run(["bash", "-o", "pipefail", "-c", line], capture_output=True, text=True)
        assert "Traceback" not in done.stderr
        assert done.stdout.endswith("Two fields\n")

    def test_the_version_is_reported(self):
        assert jquilt("--version")[1].strip() == f"Jagged Quilt {jq.__version__}"


def test_a_damaged_manifest_is_made_again(project):
    quilt = project / "job.quilt.toml"
    assert jquilt("pack", quilt)[0] == 0
    (project / "out" / "arrays" / "arrays.json").write_text("{")
    assert jquilt("pack", quilt)[0] == 0
    assert json.loads((project / "out" / "arrays" / "arrays.json").read_text())["texels"] == 16


class TestWeights:
    def test_adopt_tells_before_and_after_and_draws_both(self, own_saltworks):
        code, said, _ = jquilt("adopt", own_saltworks)
        assert code == 0
        assert re.search(r"weights sum to more than 1 at \d+ and to less at \d+ of 262144 texels", said)
        assert re.search(r"texels changed: [\d,]+ of 262,144 \(\d\.\d %\)", said)
        assert re.search(r"trodden path +\d\.\d % +[\d,]+ +raked gravel", said)
        assert re.search(r"raked gravel +\d+\.\d % +\d+\.\d % +[\d,]+", said)
        out = own_saltworks.parent / "out"
        assert read_image(out / "pictures" / "adopted.png").shape == (800, 1280, 3)
        assert {p.name for p in (out / "adopted").iterdir()} >= {"layers_0.png", "weights_0.png", "weights.json"}
        assert "nothing changed" in jquilt("adopt", own_saltworks)[1]

    def test_export_writes_what_is_asked_and_tells_which_layer_is_where(self, project):
        forms = [word for form in ("splat", "pairs", "masks") for word in ("--as", form)]
        code, said, _ = jquilt("export", "weights", project / "job.quilt.toml", *forms, "--bits", "16")
        assert code == 0
        assert "splat_0.png: R clay, G salt" in said
        assert "pairs: 0 clay, 1 salt" in said
        files = {p.name for p in (project / "out" / "export").iterdir()}
        assert files == {
            "splat_0.png",
            "splat.json",
            "pairs_numbers.png",
            "pairs_weights.png",
            "pairs.json",
            "mask_clay.png",
            "mask_salt.png",
            "masks.json",
        }
        sheet = read_image(project / "out" / "export" / "splat_0.png")
        assert sheet.dtype == np.uint16
        assert (sheet.sum(axis=2, dtype=np.uint32) == 65535).all()

    def test_daubs_are_added_listed_dropped_and_seen(self, project):
        quilt = project / "job.quilt.toml"
        code, _, errors = jquilt("daub", quilt)
        assert (code, 'write daubs = "daubs.jsonl" under [weights]' in errors) == (2, True)
        quilt.write_text(QUILT.replace("[weights]", '[weights]\ndaubs = "d.jsonl"'))
        code, said, _ = jquilt("daub", quilt, "--add", "salt", "--along", "2,2 6,3", "--radius", 1.5, "--ceiling", 0.8)
        assert (code, "daub 1 added" in said) == (0, True)
        jquilt("daub", quilt, "--add", "salt+clay", "--along", "9,9", "--radius", 2, "--between", 1.5, "--breakup", 0.8)
        jquilt("daub", quilt, "--erase", "salt", "--along", "9,9", "--radius", 1)
        jquilt("daub", quilt, "--erase", "-", "--along", "3,3", "--radius", 1)
        assert "daub 5 added" in jquilt("daub", quilt, "--smooth", "--along", "5,5", "--radius", 3, "--reach", 0.5)[1]
        code, said, _ = jquilt("daub", quilt)
        assert re.search(r"5 daubs.*\n.*does.*\n 1 +paint +salt +2, 2 +4\.1 +1\.5 +1 +0\.8", said)
        assert re.search(r" 2 +paint +salt \+ clay", said)
        assert re.search(r" 4 +erase +all", said)
        assert "daub 3 dropped, 4 left" in jquilt("daub", quilt, "--drop", 3)[1]
        code, said, _ = jquilt("show", quilt, "--at", "4,2.5")
        assert code == 0
        assert "daub 1 (paint salt) covers 100 % here" in said
        before = files_of(project)
        for words, reported in (
            (["--add", "slat", "--along", "2,2", "--radius", 1], 'did you mean "salt"'),
            (["--add", "salt", "--along", "99,2", "--radius", 1], "the path leaves the surface at x 99, z 2"),
            (["--add", "salt", "--along", "2,2", "--radius", 1, "--ceiling", 1.5], "ceiling must be from 0 to 1; got 1.5"),
            (["--add", "salt", "--along", "2,x", "--radius", 1], "points 'X,Z X,Z'"),
            (["--add", "salt", "--radius", 1], "with --along and --radius"),
            (["--add", "salt", "--smooth", "--along", "2,2", "--radius", 1], "a daub is one of"),
            (["--radius", 1], "say what to do with that"),
            (["--drop", 9], "whole number from 1 to 4; got 9"),
            (["--drop", 1, "--smooth"], "--drop stands alone"),
        ):
            code, said, errors = jquilt("daub", quilt, *words)
            assert (code, said) == (2, "")
            assert reported in errors
            assert "Traceback" not in errors
        assert files_of(project) == before

    def test_one_place_is_explained(self, own_saltworks):
        code, said, _ = jquilt("show", own_saltworks, "--at", "107,204")
        assert code == 0
        lines = said.splitlines()
        assert re.match(r"at x 107, z 204 \(the texel there\): \d+\.\d\d m high; layers from the top down", lines[0])
        for words in (
            r"^ brine",
            r"multiply +height 4 to 22 m, fade 0.5 +\d+\.\d\d m high +\d\.\d{3}",
            r"^ salt crust",
            r"maximum +distance -1 to 0.8 m, fade 2.2, warped by 1.2 m, size 3 m +-?\d+\.\d\d m away",
            r"turn of +red gypsum",
            r"adopted +\d\.\d{3}",
            r"before daubs",
        ):
            assert any(re.search(words, line) for line in lines), words
        assert re.search(r"daub \d \(paint salt crust\) covers \d+ % here", said)
        assert lines[-1].startswith("in the weight map: ")
        assert not (own_saltworks.parent / "out" / "pictures").exists()
        for place, reported in (("300,4", "reaches from 0,0 to 256,256 m"), ("a,b", "X,Z in metres")):
            code, _, errors = jquilt("show", own_saltworks, "--at", place)
            assert (code, reported in errors) == (2, True)

    def test_a_number_is_swept_and_coverage_written(self, project):
        quilt = project / "job.quilt.toml"
        code, _, _ = jquilt("show", quilt, "sweep", "layer.mask[1].threshold=0.2:0.8:4", "--csv", project / "cover.csv")
        assert code == 0
        assert read_image(project / "out" / "pictures" / "sweep.png").shape == (800, 1280, 3)
        header, *rows = (project / "cover.csv").read_text().splitlines()
        assert header == "layer,percent,square_metres,texels,dominant_texels,mean_weight"
        assert [row.split(",")[0] for row in rows] == ["clay", "salt"]
        assert sum(float(row.split(",")[2]) for row in rows) == pytest.approx(256, abs=0.01)
        for sweep, reported in (("layer.mask[7].threshold=0:1:3", "leads nowhere"), ("x=0:1", "KEY=FROM:TO:COUNT")):
            code, _, errors = jquilt("show", quilt, "sweep", sweep)
            assert (code, reported in errors) == (2, True)

    def test_time_moves_what_a_formula_drives(self, project):
        quilt = project / "job.quilt.toml"
        quilt.write_text(QUILT.replace("band = [1.0, 2.0]", 'band = ["= time", 9.0]'))
        shares = []
        for time_word in ([], ["--time", "3"]):
            assert jquilt("weigh", quilt, *time_word)[0] == 0
            shares.append(json.loads((project / "out" / "weights" / "weights.json").read_text())["shares"]["salt"])
        assert shares[0] > 2 * shares[1] > 0

    def test_check_tells_what_is_adopted_and_painted(self, saltworks):
        said = jquilt("check", saltworks)[1]
        assert (
            "adopted: inherited/splat_0.png for cracked clay, raked gravel, fallen rock\n  weights sum to more than 1" in said
        )
        assert "daubs: 6 in daubs.jsonl" in said


class TestWithoutGround:
    """A quilt of swatches alone, or of meshes."""

    @pytest.fixture
    def alone(self, project):
        text = QUILT[: QUILT.index("[[layer]]")].replace(
            '[surface]\nterrain = "ground.png"\nsize = [16.0, 16.0]\nheights = [0.0, 4.0]\n', ""
        )
        (project / "job.quilt.toml").write_text(text)
        return project / "job.quilt.toml"

    def test_swatches_alone_are_checked_packed_and_shown(self, alone):
        said = jquilt("check", alone)[1]
        assert "Two fields" in said
        assert "terrain:" not in said
        assert "no layer uses it" not in said
        assert "diffuse_height.ktx2" in jquilt("pack", alone)[1]
        code, said, _ = jquilt("show", alone)
        assert (code, "swatches.png" in said, "view.png" in said) == (0, True, False)
        for words in (("weigh",), ("bake",), ("show", "view"), ("show", "debug", "grid"), ("show", "--at", "1,1")):
            code, _, errors = jquilt(words[0], alone, *words[1:])
            assert (code, len(errors.splitlines())) == (2, 1), words
            assert "[surface]" in errors

    def test_meshes_alone_are_baked_and_seen_whole(self, alone):
        jar = jq.shapes.jar(1.0, around=16, rings=8)
        jq.export.write_mesh(jq.Mesh.of(jar.position, jar.triangles, uv=jar.uv / jar.uv.max(axis=0)), alone.parent / "jar.obj")
        mesh = (
            '[[mesh]]\nname = "jar"\nfile = "jar.obj"\ntexels = 32\n[[mesh.layer]]\nswatch = "clay"\nprojection = "triplanar"\n'
        )
        alone.write_text(alone.read_text() + mesh)
        assert "normal.png" in jquilt("bake", alone)[1]
        assert jquilt("show", alone, "debug", "plane")[0] == 0
        seen = read_image(alone.parent / "out" / "pictures" / "debug_plane.png")[60:720].astype(int)
        there = np.argwhere(np.abs(seen - seen[0, 0]).sum(axis=2) > 60)
        assert (there.min(axis=0) > 5).all()
        assert (np.array(seen.shape[:2]) - there.max(axis=0) > 5).all()
        assert np.ptp(there[:, 0]) > 300


class TestAskedAsElsewhere:
    @pytest.mark.parametrize("shell", ["bash", "zsh", "fish"])
    def test_a_shell_completes(self, shell):
        code, out, _ = jquilt("completion", shell)
        assert (code, "_JQUILT_COMPLETE" in out) == (0, True)

    @pytest.mark.parametrize(
        ("words", "said"), [(["-V"], "Jagged Quilt "), (["help"], "Commands:"), (["help", "show"], "jquilt show")]
    )
    def test_version_and_help(self, words, said):
        code, out, _ = jquilt(*words)
        assert (code, said in out) == (0, True)


class TestNarrow:
    def test_a_table_that_does_not_fit_is_stacked(self, monkeypatch, capsys):
        """Each row its name, and a line of what there is of it; nothing is cut."""
        from rich.table import Table

        from jagged_quilt.cli.common import print_table

        table = Table("set", "maps", "left out", box=None)
        table.add_row("\u017dula", "diffuse, normal, roughness", "")
        table.add_row("wiese gr\u00fcn", "diffuse", "odd.png")
        for columns, expected in ((200, 3), (24, 6)):
            monkeypatch.setenv("COLUMNS", str(columns))
            monkeypatch.setenv("FORCE_COLOR", "1")  # as on a terminal
            monkeypatch.setenv("NO_COLOR", "1")
            print_table(table)
            said = re.sub(r"\x1b\[[0-9;]*m", "", capsys.readouterr().out)
            assert len(said.splitlines()) >= expected
            assert all(word in said for word in ("\u017dula", "wiese gr\u00fcn", "roughness", "odd.png"))
            assert "\u2026" not in said
            assert max(map(len, said.splitlines())) <= columns


def test_the_manual_has_every_command_and_option():
    from jagged_quilt.cli.main import COMMANDS

    said = jquilt("manual")[1]
    assert all(f".B jquilt {name}\n" in said for name in COMMANDS)
    assert ".B jquilt export scene" in said
    assert ".B \\-\\-metallic" in said
    if shutil.which("groff"):
        made = subprocess.run(["groff", "-k", "-man", "-ww", "-z"], input=said, capture_output=True, text=True, check=True)
        assert made.stderr == ""
