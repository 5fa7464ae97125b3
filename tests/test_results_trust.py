"""What is promised of damaged files, hostile ones, and of several who work at once."""

import contextlib
import json
import os
import resource
import subprocess
import sys
import threading
import time
from pathlib import Path

import numpy as np
import pytest

import jagged_quilt as jq
from conftest import QUILT, jquilt
from jagged_quilt.errors import FileError
from jagged_quilt.foundation.locks import alone_with
from jagged_quilt.foundation.path_guard import PathGuard
from jagged_quilt.foundation.reading import plain_words, reading
from jagged_quilt.images import read_image, write_image
from jagged_quilt.meshfiles.names import find_file

ROOT = Path(__file__).parents[1]
READERS = {
    "png": read_image,
    "exr": read_image,
    "ktx2": read_image,
    "obj": jq.read_mesh,
    "glb": jq.read_mesh,
    "gltf": jq.read_mesh,
    "ply": jq.read_mesh,
    "toml": jq.read_quilt,
    "jsonl": jq.daubs.read_daubs,
    "npy": lambda path: jq.read_terrain(path, size=(1, 1), heights=(0, 1)),
}


class TestDoor:
    @pytest.mark.parametrize("suffix", READERS)
    def test_what_is_no_file_of_its_kind_is_one_clear_line(self, tmp_path, suffix):
        """Nothing, noise, another kind of file, a folder, a pipe, a device, names that cannot be."""
        read, path = READERS[suffix], tmp_path / f"a.{suffix}"
        for content in (b"", b"\x00" * 50, np.random.default_rng(1).bytes(400), b"\xff\xfe\x00[[[{{{", b'{"a": [' * 5000):
            path.write_bytes(content)
            with contextlib.suppress(jq.QuiltError):
                read(path)
        os.mkfifo(tmp_path / f"pipe.{suffix}")
        for odd in (f"pipe.{suffix}", f"{'x' * 300}.{suffix}", f"a\x00b.{suffix}", f"none.{suffix}"):
            with pytest.raises(jq.QuiltError) as reported:
                read(tmp_path / odd)
            assert "\n" not in str(reported.value)

    def test_faults_of_our_own_stay_what_they_are(self, tmp_path):
        for error in (NameError("x"), ImportError("x"), FileError("ours")):
            with pytest.raises(type(error), match=r"^(x|ours)$"), reading(tmp_path, "file"):
                raise error
        for error in (
            KeyError("x"),
            UnicodeDecodeError("utf-8", b"\xff", 0, 1, "bad"),
            MemoryError(),
            RecursionError(),
            OSError(5, "I/O"),
        ):
            with pytest.raises(FileError, match="file"), reading(tmp_path, "file"):
                raise error

    def test_words_of_files_are_reported_in_one_printable_line(self):
        assert plain_words("a\x1b[31m\n\tb\x00" + "c" * 500) == "a [31m b " + "c" * 190 + "…"

    def test_daubs_and_numbers_of_wrong_kinds_are_reported(self, tmp_path):
        path = tmp_path / "d.jsonl"
        for line in (
            '{"path": [["a", 1]], "radius": 1, "layer": "x"}',
            '{"path": [[1, 2]], "radius": "wide", "layer": "x"}',
            '{"path": [[1, 2]], "radius": 1e400, "layer": "x"}',
            '{"path": [[null, 2]], "radius": 1, "layer": "x"}',
            '{"path": [[1, 2]], "radius": 1, "layer": 5}',
            '{"path": [[1, 2]], "radius": 1, "layer": "x", "breakup": {"size": "a"}}',
            '{"path": [[1, 2]], "radius": 1, "layer": "x", "strength": true}',
        ):
            path.write_text(line + "\n")
            with pytest.raises(jq.QuiltError, match="line 1"):
                jq.daubs.read_daubs(path)
        path.write_text("[" * 100000)
        with pytest.raises(jq.QuiltError, match="nested too deeply"):
            jq.daubs.read_daubs(path)

    def test_normals_of_any_length_become_unit(self, tmp_path):
        path = tmp_path / "a.obj"
        path.write_text("v 0 0 0\nv 1 0 0\nv 0 1 0\nvn 0 0 1e38\nf 1//1 2//1 3//1\n")
        assert jq.read_mesh(path).normal.tolist() == [[0, 0, 1]] * 3


class TestFuzz:
    def test_no_damage_makes_a_traceback_or_other_pixels(self, tmp_path):
        """Some hundred seeded cases of every format, by the same program that runs for hours."""
        script = "benchmarks/fuzz.py"
        done = subprocess.run(
            [sys.executable, script, "--quick", "--formats", "png,gltf"],
            capture_output=True,
            text=True,
            timeout=400,
            cwd=ROOT,
        )
        document = json.loads(done.stdout.splitlines()[-1])
        assert document["wrong"] == 0, done.stdout
        assert document["cases"] > 200


class TestSmallFiles:
    def test_none_costs_much(self):
        """The smallest of the files that ask for much; `benchmarks/hostile.py` runs all."""
        done = subprocess.run(
            [sys.executable, "benchmarks/hostile.py", "--quick"], capture_output=True, text=True, timeout=200, cwd=ROOT
        )
        document = json.loads(done.stdout.splitlines()[-1])
        assert document["wrong"] == 0, done.stdout
        assert document["files"] > 10

    def test_masks_that_ask_each_other_twice_over_are_asked_once(self, project):
        """Twelve layers of which each asks the one below twice: 4,096 steps, and each is worked out once."""

        def write(count):
            text = "".join(
                f'[[layer]]\nswatch = "salt"\nlabel = "{n}"\nmask = [{{ kind = "layer", layer = "{n - 1}" }}, '
                f'{{ kind = "layer", layer = "{n - 1}", combine = "maximum" }}]\n'
                for n in range(1, count)
            )
            first = '[[layer]]\nswatch = "salt"\nlabel = "0"\nmask = [{ kind = "height", band = [1, 2] }]\n'
            path.write_text(QUILT.partition("[[layer]]")[0] + '[[layer]]\nswatch = "clay"\n' + first + text)
            return jq.read_quilt(path)

        path = project / "job.quilt.toml"
        quilt = write(12)
        assert jq.weigh(quilt.terrain.canvas(16), quilt.layers).names[-1] == "11"
        with pytest.raises(jq.QuiltError, match=r"line \d+, layer\[\d+\].mask: takes 12,286 steps.*use an image"):
            write(14)


class TestPaths:
    KEYS = (
        ('terrain = "ground.png"', 'terrain = "../ground.png"', "surface.terrain"),
        ('folder = "salt"', 'folder = "../salt"', "swatch[1].folder"),
        ('folder = "salt"', 'folder = "salt"\nmap = [{ role = "diffuse", file = "../../x.png" }]', "swatch[1].map[0].file"),
        ('kind = "noise"\nsize = 5.0', 'kind = "image"\nfile = "../x.png"', "layer[1].mask[1].file"),
        ('projection = "triplanar"', 'warp = { image = "../x.png", by = 1.0 }', "layer[1].warp.image"),
        ("[bake]", '[sky]\nimage = "../x.hdr"\n[bake]', "sky.image"),
        ("[bake]", '[[mesh]]\nname = "jar"\nfile = "/x.obj"\nlayer = [{ swatch = "clay" }]\n[bake]', "mesh[0].file"),
        ("[bake]", '[adopt]\nform = "splat"\nfiles = ["../x.png"]\nlayers = ["clay"]\n[bake]', "adopt.files[0]"),
        ("[weights]", '[weights]\ndaubs = "../d.jsonl"', "weights.daubs"),
    )

    @pytest.mark.parametrize(("old", "new", "key"), KEYS)
    def test_nothing_outside_is_read_unless_it_is_allowed(self, project, old, new, key):
        home = project / "home"
        home.mkdir()
        for each in ("clay", "salt", "ground.png"):
            (project / each).rename(home / each)
        text = (project / "job.quilt.toml").read_text()
        assert old in text
        path = home / "job.quilt.toml"
        path.write_text(text.replace(old, new))
        with pytest.raises(jq.QuiltError) as reported:
            jq.read_quilt(path)
        assert f"{key}: " in str(reported.value)
        assert "allow = [" in str(reported.value) or "daubs are written" in str(reported.value)
        path.write_text('allow = [".."]\n' + path.read_text())
        if key == "weights.daubs" or "/x.obj" in new:  # what is written, and what `allow` does not name
            with pytest.raises(jq.QuiltError, match=r"lies outside|daubs are written"):
                jq.read_quilt(path)
        else:
            with contextlib.suppress(jq.QuiltError):  # it is not there
                assert jq.read_quilt(path)
                return
            with pytest.raises(jq.QuiltError, match=r"^((?!lies outside).)*$"):
                jq.read_quilt(path)

    def test_links_are_followed_to_where_they_lead(self, project):
        outside = project / "outside.png"
        home = project / "home"
        home.mkdir()
        for each in ("clay", "salt", "ground.png", "job.quilt.toml"):
            (project / each).rename(home / each)
        (home / "salt" / "salt_diffuse.png").rename(outside)
        (home / "salt" / "salt_diffuse.png").symlink_to(outside)
        with pytest.raises(jq.QuiltError, match=r"swatch\[1\]"):
            jq.run(jq.read_quilt(home / "job.quilt.toml"), "pack")
        (home / "job.quilt.toml").write_text('allow = [".."]\n' + (home / "job.quilt.toml").read_text())
        assert jq.run(jq.read_quilt(home / "job.quilt.toml"), "pack")["pack"].fresh

    def test_daubs_go_into_files_and_through_no_link(self, project):
        victim = project / "victim"
        victim.write_text("precious")
        home = project / "home"
        home.mkdir()
        for each in ("clay", "salt", "ground.png"):
            (project / each).rename(home / each)
        path = home / "job.quilt.toml"
        path.write_text((project / "job.quilt.toml").read_text().replace("[weights]", '[weights]\ndaubs = "d.jsonl"'))
        for make in (lambda: (home / "d.jsonl").symlink_to(victim), lambda: os.mkfifo(home / "d.jsonl")):
            make()
            code, _, said = jquilt("daub", path, "--add", "salt", "--along", "1,1", "--radius", "1")
            assert code == 2, said
            (home / "d.jsonl").unlink()
        assert victim.read_text() == "precious"

    def test_links_to_files_among_the_results_are_replaced_and_not_written_through(self, project):
        victim = project / "victim"
        victim.write_text("precious")
        (project / "out" / "weights").mkdir(parents=True)
        (project / "elsewhere").mkdir()
        (project / "out" / "weights" / "layers_0.png").symlink_to(victim)
        (project / "out" / "arrays").symlink_to(project / "elsewhere")
        assert jquilt("weigh", project / "job.quilt.toml")[0] == 0
        assert jquilt("pack", project / "job.quilt.toml")[0] == 0
        assert victim.read_text() == "precious"
        assert not (project / "out" / "weights" / "layers_0.png").is_symlink()
        assert (project / "elsewhere" / "arrays.json").is_file()

    def test_meshes_name_files_below_their_own_folder(self, tmp_path):
        inside = tmp_path / "meshes"
        (inside / "maps").mkdir(parents=True)
        for folder in (inside / "maps", tmp_path):
            write_image(folder / "c.png", np.zeros((2, 2, 3), np.uint8))
        (inside / "a.obj").write_text("mtllib a.mtl\nusemtl m\nv 0 0 0\nv 1 0 0\nv 0 0 1\nf 1 2 3\n")
        (inside / "a.mtl").write_text("newmtl m\nmap_Kd maps/c.png\n")
        assert jq.read_mesh(inside / "a.obj").materials["m"].rules
        (inside / "a.mtl").write_text("newmtl m\nmap_Kd ../c.png\n")
        with pytest.warns(jq.QuiltWarning, match=r'names .*c.png: lies outside.*allow = \["\.\."\]'):
            assert not jq.read_mesh(inside / "a.obj").materials["m"].rules
        assert jq.read_mesh(inside / "a.obj", allow=[tmp_path]).materials["m"].rules
        (tmp_path / "b.bin").write_bytes(bytes(36))
        reported = {"asset": {"version": "2.0"}, "buffers": [{"byteLength": 36, "uri": "../b.bin"}]}
        reported |= {"bufferViews": [{"buffer": 0, "byteLength": 36}], "nodes": [{"mesh": 0}]}
        reported |= {"accessors": [{"bufferView": 0, "componentType": 5126, "type": "VEC3", "count": 3}]}
        reported |= {"meshes": [{"primitives": [{"attributes": {"POSITION": 0}}]}]}
        (inside / "a.gltf").write_text(json.dumps(reported))
        with pytest.raises(jq.QuiltError, match="lies outside"):
            jq.read_mesh(inside / "a.gltf")

    def test_names_in_files_are_found_however_they_are_written(self, tmp_path):
        """In other letters, by paths of other machines; of two the one that may be read."""
        home, other = tmp_path / "home", tmp_path / "other"
        for folder in (home, other):
            folder.mkdir()
            (folder / "Wall.PNG").write_text("")
        within = PathGuard(home)
        for name in ("wall.png", '"Wall.PNG"', "C:\\\\maps\\\\wall.png", "../other/Wall.PNG", "./Wall.PNG"):
            assert find_file(name, within).resolve() == home / "Wall.PNG"
        (home / "Wall.PNG").unlink()
        with pytest.raises(FileError, match=r"lies outside of .*home; to read it all the same, allow = ..\.\./other"):
            find_file("../other/Wall.PNG", within)
        assert find_file("../other/Wall.PNG", PathGuard(home, (other,))).is_file()
        for name in ("", "none.png", "x" * 5000, "a\x00b"):
            with pytest.raises(FileError):
                find_file(name, within)
        (home / "loop").symlink_to(home / "loop")
        with pytest.raises(FileError, match="leads nowhere"):
            within.check(home / "loop" / "x")

    def test_gathered_sets_elsewhere_are_allowed(self, project):
        code, _, said = jquilt("gather", project / "clay", "--into", project / "home" / "new.quilt.toml")
        assert code == 0, said
        assert (project / "home" / "new.quilt.toml").read_text().startswith('#:schema quilt.schema.json\nallow = ["../clay"]')
        assert jquilt("gather", project / "salt", "--into", project / "home" / "new.quilt.toml")[0] == 0
        assert len(jq.read_quilt(project / "home" / "new.quilt.toml").sources) == 2


class TestTheMachine:
    """What is full, or may not be written to, or speaks another language."""

    def run(self, folder, *words, before=None, **env):
        done = subprocess.run(
            [sys.executable, "-m", "jagged_quilt", *map(str, words)],
            capture_output=True,
            text=True,
            timeout=200,
            cwd=folder,
            env={**os.environ, **env},
            preexec_fn=before,
        )
        return done.returncode, done.stdout, done.stderr

    @pytest.mark.parametrize("step", ["pack", "weigh"])
    def test_a_disk_that_fills_up_is_reported_and_nothing_is_half_written(self, project, step):
        full = lambda: resource.setrlimit(resource.RLIMIT_FSIZE, (900, 900))
        code, _, said = self.run(project, step, "job.quilt.toml", before=full)
        assert code == 2, said
        assert "cannot write this" in said
        assert "Traceback" not in said
        assert not [path for path in (project / "out").rglob("*") if path.is_file()]
        assert self.run(project, step, "job.quilt.toml")[0] == 0

    def test_an_image_that_the_disk_cuts_short_is_not_kept(self, tmp_path):
        script = "import resource, sys, numpy as np; from jagged_quilt.maps.image_writing import write_image\n"
        script += "resource.setrlimit(resource.RLIMIT_FSIZE, (1024, 1024))\n"
        script += "write_image(sys.argv[1], np.random.default_rng(0).integers(0, 256, (20, 20, 3), dtype=np.uint8))"
        for suffix in ("png", "tif", "tga"):
            path = tmp_path / f"a.{suffix}"
            done = subprocess.run([sys.executable, "-c", script, path], capture_output=True, text=True)
            assert "FileError" in done.stderr
            assert not list(tmp_path.iterdir())

    def test_standard_output_that_is_full_is_reported(self, project):
        with Path("/dev/full").open("w") as full:
            done = subprocess.run(
                [sys.executable, "-m", "jagged_quilt", "pack", "job.quilt.toml"], cwd=project, stdout=full, stderr=-1, text=True
            )
        assert done.returncode == 2
        assert "jquilt: standard output, or a file: the system says: No space left on device" in done.stderr
        assert (project / "out" / "arrays" / "arrays.json").is_file()

    def test_any_locale_will_do(self, project):
        (project / "job.quilt.toml").rename(project / "jöb.toml")
        plain = {"LC_ALL": "C", "PYTHONUTF8": "0", "PYTHONCOERCECLOCALE": "0", "PYTHONIOENCODING": "ascii"}
        for words in (("check",), ("weigh", "--out", "ö")):
            code, _, said = self.run(project, words[0], "jöb.toml", *words[1:], **plain)
            assert code in (0, 1), said
        assert (project / "ö" / "weights" / "layers_0.png").is_file()

    def test_kernels_that_cannot_be_kept_are_compiled_each_time_and_said(self, project):
        script = "import sys, numba.core.caching as c; c.CacheImpl._locator_classes = []\n"
        script += "from jagged_quilt.cli.main import main; sys.argv[0] = 'jquilt'; main()"
        done = subprocess.run(
            [sys.executable, "-c", script, "pack", str(project / "job.quilt.toml")], capture_output=True, text=True, timeout=300
        )
        assert done.returncode == 0, done.stderr
        assert "no folder to keep compiled kernels in can be written to" in done.stderr


class TestChanging:
    def test_a_file_that_changes_while_it_is_read_is_reported(self, tmp_path):
        path = tmp_path / "a.txt"
        path.write_text("one")
        with pytest.raises(FileError, match="changed while it was read"), reading(path, "file"):
            path.write_text("another")
        (tmp_path / "b.txt").write_text("a whole new one")
        with reading(path, "file"), path.open() as held:
            (tmp_path / "b.txt").replace(path)
            assert held.read() == "another"

    def test_what_was_made_of_a_file_that_changed_counts_for_nothing(self, project):
        path, map_file = project / "job.quilt.toml", project / "salt" / "salt_diffuse.png"
        texels = read_image(map_file)

        def change(step, done, whole):
            if step == "packing swatches" and done == whole and not changed:
                changed.append(write_image(map_file, texels[::-1].copy()))

        changed = []
        with pytest.raises(jq.QuiltError, match=r"salt_diffuse.png: changed while pack was at work"):
            jq.run(jq.read_quilt(path), "pack", work=jq.Work(progress=change))
        assert changed
        made = jq.run(jq.read_quilt(path), "pack")["pack"]
        assert made.fresh
        assert not jq.run(jq.read_quilt(path), "pack")["pack"].fresh


class TestKills:
    def test_killed_at_random_and_at_renames_nothing_is_believed(self):
        done = subprocess.run(
            [sys.executable, "benchmarks/kills.py", "--quick"], capture_output=True, text=True, timeout=400, cwd=ROOT
        )
        document = json.loads(done.stdout.splitlines()[-1])
        assert (document["wrong"], document["left_over"]) == (0, 0), done.stdout
        assert document["renames"] > 1
        assert document["kills"] > 2


class TestNumbers:
    @pytest.mark.parametrize("size", [1e-300, 1e-45, 1e-20, 1e-6, 1e6, 1e8, 1e20, 1e300, float("nan"), float("inf"), -1, 0])
    def test_extreme_sizes_are_refused_or_give_unit_normals(self, size):
        makes = (
            lambda: jq.shapes.sphere(size),
            lambda: jq.shapes.box((size, size, size)),
            lambda: jq.shapes.sphere(1.0).placed(np.diag([size, size, size, 1.0])),
            lambda: jq.shapes.sphere(1.0).placed(np.array([[1, 0, 0, size], [0, 1, 0, 0], [0, 0, 1, 0], [0, 0, 0, 1.0]])),
            lambda: jq.Terrain(np.eye(5) * size, size=(8, 8)).points((8, 8)),
            lambda: jq.Terrain(np.eye(5), size=(size, size)).points((8, 8)),
        )
        refused = 0
        for make in makes:
            with np.errstate(over="ignore", invalid="ignore"):
                try:
                    made = make()
                except jq.QuiltError:
                    refused += 1
                    continue
            assert np.isfinite(made.position).all()
            assert np.allclose(np.linalg.norm(made.normal, axis=1), 1, atol=1e-3)
            assert np.allclose(np.linalg.norm(made.tangent[:, :3], axis=1), 1, atol=1e-3)
        if 1e-6 <= size <= 1e6:
            assert not refused, "of lengths that a mesh or a ground may have"
        elif not 0 < abs(size) < np.inf:
            assert refused, "of what is no length"

    def test_a_mesh_of_another_unit_is_reported(self, tmp_path):
        path = tmp_path / "a.obj"
        path.write_text("v 0 0 0\nv 1e12 0 0\nv 0 0 1e12\nf 1 3 2\n")
        with pytest.raises(jq.QuiltError, match=r"reaches 1e\+12 m from the origin.*metres"):
            jq.read_mesh(path)
        assert jq.read_mesh(path, metres=1e-12).bounds[1].tolist() == pytest.approx([1, 0, 1])

    def test_what_is_no_number_in_a_map_is_filled_and_reported(self, tmp_path):
        height = np.tile(np.linspace(0, 1, 16, dtype=np.float32), (16, 1))[..., None]
        wrong = height.copy()
        wrong[4, 4], wrong[5, 15] = np.nan, np.inf
        path = tmp_path / "a.tif"
        write_image(path, wrong)
        with pytest.warns(jq.QuiltWarning, match="1 NaN, filled from around and 1 infinite.* the first at row 4, column 4"):
            found = read_image(path)
        assert np.abs(found - height).max() < 0.01

    def test_what_lies_beyond_its_range_is_cut_and_reported(self, tmp_path):
        rough = np.full((8, 8, 1), 0.5, np.float32)
        rough[0] = 7
        rough[1] = -1
        write_image(tmp_path / "a_diffuse.tif", np.full((8, 8, 3), 0.5, np.float32))
        write_image(tmp_path / "a_roughness.tif", rough)
        with pytest.warns(jq.QuiltWarning, match="25 % of the roughness map lies below 0 or above 1 .it goes from -1 to 7"):
            swatch = jq.read_swatch(tmp_path, tile=1.0)
        values = swatch.maps[jq.MapRole.ROUGHNESS].values
        assert (float(values.min()), float(values.max())) == (0, 1)


class TestNames:
    def test_names_are_printed_as_they_are_and_cannot_steer_a_terminal(self, project):
        path = project / "job.quilt.toml"
        path.write_text(QUILT.replace('swatch = "salt"', 'swatch = "salt"\nlabel = "[red]:smile: salt"'))
        code, said, errors = jquilt("show", path, "--at", "8,8")
        assert code == 0, errors
        assert "[red]:smile: salt" in said
        for key in ('title = "a\\u001b[31m"', 'title = "a\\nb"'):
            path.write_text(QUILT.replace('title = "Two fields"', key))
            code, said, errors = jquilt("check", path)
            assert (code, "line 1, title: must be text that can be printed" in errors) == (2, True)
            assert "\x1b" not in errors

    def test_two_meshes_never_share_a_folder(self, project):
        path = project / "job.quilt.toml"
        mesh = '[[mesh]]\nname = "{}"\nfile = "a.obj"\nlayer = [{{ swatch = "clay" }}]\n'
        for one, two in (("a b", "a_b"), ("Jar", "jar"), ("x", "x")):
            path.write_text(QUILT + mesh.format(one) + mesh.format(two))
            with pytest.raises(jq.QuiltError, match=r"mesh\[1\].name: .*give it a name of its own"):
                jq.read_quilt(path)


class TestSeveralAtOnce:
    def test_eight_who_daub_at_once_lose_no_daub(self, project):
        path = project / "job.quilt.toml"
        path.write_text(path.read_text().replace("[weights]\n", '[weights]\ndaubs = "d.jsonl"\n'))
        words = lambda n: ["daub", path, "--add", "salt", "--along", f"{n},{n}", "--radius", "1"]
        codes = []
        threads = [threading.Thread(target=lambda n=n: codes.append(jquilt(*words(n))[0])) for n in range(8)]
        script = "import sys; from jagged_quilt.weights.daub_file import *; p = sys.argv[1]\n"
        script += "for n in range(10): append_daub(p, Daub(path=((1.0 + n, 2.0),), radius=1, layers=('salt',)))"
        others = [subprocess.Popen([sys.executable, "-c", script, str(project / "d.jsonl")]) for _ in range(4)]
        for thread in threads:
            thread.start()
            thread.join()
        assert [each.wait() for each in others] == [0] * 4
        assert codes == [0] * 8
        assert len(jq.daubs.read_daubs(project / "d.jsonl")) == 48

    def test_a_second_one_waits_for_the_folder_and_says_so(self, project):
        folder, path = project / "out", project / "job.quilt.toml"
        folder.mkdir()
        words = [sys.executable, "-m", "jagged_quilt", "pack", str(path)]
        with alone_with(folder):
            other = subprocess.Popen(words, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
            time.sleep(4)
            assert other.poll() is None
            assert not (folder / "arrays").exists()
        out, said = other.communicate(timeout=60)
        assert other.returncode == 0, said
        assert "another process works here; waiting" in said
        assert "diffuse_height" in out

    def test_an_out_without_a_name_is_refused(self, project):
        code, _, said = jquilt("pack", project / "job.quilt.toml", "--out", "")
        assert (code, "must name a folder" in said) == (2, True)


def test_png_with_a_flipped_bit_is_never_read(tmp_path):
    """Every bit of a small file, one after the other: refused, or the same pixels."""
    path = tmp_path / "a.png"
    write_image(path, np.random.default_rng(0).integers(0, 256, (3, 4, 3), dtype=np.uint8))
    good, texels = path.read_bytes(), read_image(path)
    for bit in range(0, 8 * len(good), 3):
        data = bytearray(good)
        data[bit // 8] ^= 1 << bit % 8
        path.write_bytes(data)
        try:
            assert np.array_equal(read_image(path), texels)
        except jq.QuiltError:
            continue
