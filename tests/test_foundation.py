"""What every room stands on: files written whole, threads that stop at an error, checks that say what came."""

import os
import re
import threading
import time

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

import jagged_quilt as jq
from jagged_quilt.errors import FileError, NameNotFoundError, QuiltError, RangeError, ShapeError
from jagged_quilt.foundation.checks import finite_array, known_name, number_in, positive, power_of_two, whole_number_in
from jagged_quilt.foundation.files import fingerprint, read_json, write_bytes, write_json, written_together, written_whole
from jagged_quilt.foundation.missing import missing


class TestFiles:
    def test_a_file_is_written_whole_or_not_at_all(self, tmp_path):
        path = tmp_path / "deep" / "a.bin"
        write_bytes(path, b"first")
        with pytest.raises(RuntimeError), written_whole(path) as temporary:
            temporary.write_bytes(b"second, half")
            raise RuntimeError
        assert path.read_bytes() == b"first"
        assert os.listdir(path.parent) == ["a.bin"]

    def test_a_set_of_files_moves_together(self, tmp_path):
        write_bytes(tmp_path / "a", b"old")
        with pytest.raises(FileError, match="no room"), written_together(tmp_path) as stage:
            (stage / "a").write_bytes(b"new")
            raise FileError(f"{stage}: no room")
        assert (tmp_path / "a").read_bytes() == b"old"
        assert os.listdir(tmp_path) == ["a"]
        with written_together(tmp_path) as stage:
            (stage / "a").write_bytes(b"new")
            (stage / "b.json").write_bytes(b"{}")
        assert sorted(os.listdir(tmp_path)) == ["a", "b.json"]
        assert (tmp_path / "a").read_bytes() == b"new"

    def test_an_error_names_the_folder_and_not_the_stage(self, tmp_path):
        with pytest.raises(FileError) as caught, written_together(tmp_path) as stage:
            raise FileError(f"{stage / 'a.png'}: cannot write")
        assert str(caught.value) == f"{tmp_path / 'a.png'}: cannot write"

    def test_a_file_in_the_way_of_a_folder_is_refused(self, tmp_path):
        (tmp_path / "a").write_text("")
        with pytest.raises(FileError, match="a file is in the way"):
            write_bytes(tmp_path / "a" / "b", b"")

    def test_json_that_is_broken_says_what_to_do(self, tmp_path):
        write_json(tmp_path / "a.json", {"salt": "grün"})
        assert read_json(tmp_path / "a.json", "list") == {"salt": "grün"}
        for text in ("{", "[1]"):
            (tmp_path / "a.json").write_text(text)
            with pytest.raises(FileError, match="delete it and make it again"):
                read_json(tmp_path / "a.json", "list")

    @given(st.lists(st.binary(max_size=6), max_size=4), st.lists(st.binary(max_size=6), max_size=4))
    def test_fingerprints_tell_lists_apart(self, one, other):
        """However their parts are cut."""
        assert (fingerprint(*one) == fingerprint(*other)) == (one == other)


class TestThreads:
    def test_all_parts_are_worked_and_progress_is_reported(self):
        reported, seen, lock = [], set(), threading.Lock()

        def do(part):
            with lock:
                seen.add((part, threading.get_ident()))

        work = jq.Work(threads=3, progress=lambda step, done, whole: reported.append((step, done, whole)))
        work.through(range(40), do, step="x")
        assert {part for part, _ in seen} == set(range(40))
        assert [done for _, done, _ in reported] == list(range(41))
        assert reported[-1] == ("x", 40, 40)

    @pytest.mark.parametrize("threads", [1, 2])
    def test_the_first_error_is_raised_and_the_rest_is_not_begun(self, threads):
        begun = []

        def do(part):
            begun.append(part)
            if part == 2:
                raise RangeError("two")
            time.sleep(0.01)

        with pytest.raises(RangeError, match="two"):
            jq.Work(threads=threads).through(range(200), do)
        assert len(begun) < 100

    def test_no_parts_is_no_work(self):
        jq.Work(threads=2).through([], pytest.fail)
        assert jq.Work().count >= 1
        with pytest.raises(RangeError, match="whole number from 1"):
            jq.Work(threads=0)


class TestChecks:
    def test_messages_say_the_rule_and_what_came(self):
        for check, words in (
            (lambda: number_in("softness", -0.1, 0, 1), "softness must be from 0 to 1; got -0.1"),
            (lambda: number_in("size", "big"), "size must be a number; got 'big'"),
            (lambda: number_in("size", float("inf")), "size must be a finite number; got inf"),
            (lambda: number_in("size", 4, high=3, unit="m"), "size must be at most 3 m; got 4"),
            (lambda: positive("tile", 0, "m"), "tile must be above 0 m; got 0"),
            (lambda: whole_number_in("keep", 1.5, 1, 4), "keep must be a whole number from 1 to 4; got 1.5"),
            (lambda: whole_number_in("keep", True, 0, 4), "keep must be a whole number from 0 to 4; got True"),
            (lambda: power_of_two("texels", 96, 128), "nearest: 64 or 128"),
            (lambda: finite_array("a", [[1, 2]], ("N", 3)), r"a must have shape \(N, 3\); got \(1, 2\)"),
            (lambda: finite_array("a", "words", ("N",)), r"a must be numbers of shape \(N,\); got str"),
            (lambda: finite_array("a", [1, np.nan], ("N",)), r"got 1 NaN or infinite values, the first at \(1,\)"),
        ):
            with pytest.raises(QuiltError, match=words):
                check()

    def test_an_unknown_name_brings_the_nearest_or_all(self):
        assert known_name("swatch", "salt", ["salt", "clay"]) == "salt"
        with pytest.raises(NameNotFoundError, match='did you mean "salt"'):
            known_name("swatch", "slat", ["salt", "clay"])
        with pytest.raises(NameNotFoundError, match="there are: salt, clay"):
            known_name("swatch", "quartz", ["salt", "clay"])

    def test_errors_are_also_what_a_python_user_catches(self):
        assert issubclass(ShapeError, ValueError)
        assert issubclass(FileError, OSError)
        assert issubclass(NameNotFoundError, LookupError)

    def test_what_comes_in_is_copied_and_kept_from_change(self):
        values = np.zeros(3)
        kept = finite_array("a", values, (3,))
        values[:] = 1
        assert kept.tolist() == [0, 0, 0]
        assert not kept.flags.writeable


class TestMissing:
    @pytest.mark.parametrize(
        ("asked", "said"),
        [
            ("ground/heigth.png", 'did you mean "height.tif"?'),
            ("grond/height.png", 'did you mean "ground"?'),
            ("ground/below/deep.png", "there is no folder below in"),
            ("ground/salt.png", "there is no such image file$"),
            ("ground\\height.tif", "write / between folders: "),
            ("ground\x08rine.png", "a backslash before b is no folder"),
        ],
    )
    def test_the_nearest_file_or_the_first_folder_that_is_not_there_is_named(self, tmp_path, asked, said):
        (tmp_path / "ground").mkdir()
        (tmp_path / "ground" / "height.tif").write_bytes(b"")
        assert re.search(said, missing(tmp_path / asked, "image file"))
