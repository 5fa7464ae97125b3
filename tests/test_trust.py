"""What is promised of damaged files, hostile ones, and of several who work at once."""

import contextlib
import json
import os
import subprocess
import sys
import threading
import time
from pathlib import Path

import numpy as np
import pytest

import jagged_quilt as jq
from conftest import jquilt
from jagged_quilt.foundation.doors import door, plain_words
from jagged_quilt.foundation.errors import FileError
from jagged_quilt.foundation.locks import alone_with
from jagged_quilt.maps.image_files import read_image, write_image

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
            with pytest.raises(jq.QuiltError) as told:
                read(tmp_path / odd)
            assert "\n" not in str(told.value)

    def test_faults_of_our_own_stay_what_they_are(self, tmp_path):
        for error in (NameError("x"), ImportError("x"), FileError("ours")):
            with pytest.raises(type(error), match=r"^(x|ours)$"), door(tmp_path, "file"):
                raise error
        for error in (
            KeyError("x"),
            UnicodeDecodeError("utf-8", b"\xff", 0, 1, "bad"),
            MemoryError(),
            RecursionError(),
            OSError(5, "I/O"),
        ):
            with pytest.raises(FileError, match="file"), door(tmp_path, "file"):
                raise error

    def test_words_of_files_are_told_in_one_printable_line(self):
        assert plain_words("a\x1b[31m\n\tb\x00" + "c" * 500) == "a [31m b " + "c" * 190 + "…"

    def test_daubs_and_numbers_of_wrong_kinds_are_told(self, tmp_path):
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
            [sys.executable, script, "--quick", "--formats", "png,glb,toml"],
            capture_output=True,
            text=True,
            timeout=400,
            cwd=ROOT,
        )
        told = json.loads(done.stdout.splitlines()[-1])
        assert told["wrong"] == 0, done.stdout
        assert told["cases"] > 250


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
