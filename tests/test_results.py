"""Steps: nothing is believed that was not finished, whenever the process died; what dead processes left is removed."""

import os
import subprocess
import sys

import pytest

import jagged_quilt as jq
from conftest import QUILT, jquilt
from jagged_quilt.foundation import files
from jagged_quilt.results.results import Results
from jagged_quilt.results.step import MANIFESTS, Files, Runner, Step

ONE, OTHER = QUILT, QUILT.replace("softness", "").replace("fade = 0.5", "fade = 1.5").replace("side = 16", "side = 8")
STEPS = ("pack", "weigh", "bake")


class Died(BaseException):
    """What a power cut is to a process."""


@pytest.fixture
def dies_after(monkeypatch):
    """Return what makes the process die after so many renames from now on; -1 never."""
    plain = files.put_in_place
    left = [-1]

    def put_in_place(made, path):
        plain(made, path)
        left[0] -= 1
        if left[0] == 0:
            raise Died(path)

    def set_to(count):
        left[0] = count

    monkeypatch.setattr(files, "put_in_place", put_in_place)
    return set_to


def results_of(folder):
    """Every file of the results but manifests, and what names no content."""
    return {
        path.relative_to(folder).as_posix(): path.read_bytes()
        for path in sorted(folder.rglob("*"))
        if path.is_file() and MANIFESTS not in path.parts and path.name != "inputs.json"
    }


def run_all(quilt):
    for step in STEPS:
        Results(jq.read_quilt(quilt), work=jq.Work(threads=1)).run(step)


@pytest.fixture
def truth(project):
    """What the results are for either text, made in a folder of its own."""
    made = {}
    for name, text in (("one", ONE), ("other", OTHER)):
        quilt = project / f"{name}.quilt.toml"
        quilt.write_text(text)
        for step in STEPS:
            Results(jq.read_quilt(quilt), project / name, work=jq.Work(threads=1)).run(step)
        made[text] = results_of(project / name)
    assert made[ONE] != made[OTHER]
    return made


class TestDying:
    def test_after_any_rename_of_any_step_the_next_run_is_right(self, project, truth, dies_after):
        """Settings go back and forth; each time the process dies after one more rename, and again on the way back."""
        quilt, out = project / "job.quilt.toml", project / "out"
        run_all(quilt)
        assert results_of(out) == truth[ONE]
        deaths = 0
        for death in range(1, 60):
            died = False
            for text in (OTHER, ONE):
                quilt.write_text(text)
                dies_after(death)
                try:
                    run_all(quilt)
                except Died:
                    died = True
                    deaths += 1
                dies_after(-1)
                if text is OTHER and death % 2:
                    continue  # every other time back at once, with what is half done lying there
                run_all(quilt)
                assert results_of(out) == truth[text], f"died after {death} renames"
            if not died:
                break
        assert not died
        assert deaths > 15
        assert not list(out.rglob(".new-*"))

    def test_a_changed_file_is_made_anew(self, project):
        quilt = project / "job.quilt.toml"
        run_all(quilt)
        before = results_of(project / "out")
        (project / "out" / "bake" / "diffuse.png").write_bytes(b"not a picture")
        with pytest.warns(jq.QuiltWarning, match=r"diffuse.png: is not as it was made; made anew"):
            assert Results(jq.read_quilt(quilt), work=jq.Work(threads=1)).run("bake").fresh
        assert results_of(project / "out") == before
        (project / "out" / "bake" / "height.png").unlink()
        assert Results(jq.read_quilt(quilt), work=jq.Work(threads=1)).run("bake").fresh

    def test_a_file_that_was_only_touched_is_kept(self, project):
        quilt = project / "job.quilt.toml"
        run_all(quilt)
        os.utime(project / "out" / "bake" / "diffuse.png", (1, 1))
        assert not Results(jq.read_quilt(quilt), work=jq.Work(threads=1)).run("bake").fresh


class TestLeftOvers:
    def test_those_of_dead_processes_go_and_those_of_living_ones_stay(self, tmp_path):
        code = (
            "import sys, os, tempfile; from jagged_quilt.foundation.files import temporary_prefix as p\n"
            "tempfile.mkdtemp(prefix=p(), dir=sys.argv[1]); open(os.path.join(sys.argv[1], p() + 'x.png'), 'w').close()\n"
            "print('there', flush=True); sys.stdin.read()"
        )
        (tmp_path / ".new-mine").write_text("of somebody else")
        with subprocess.Popen(
            [sys.executable, "-c", code, tmp_path], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True
        ) as other:
            assert other.stdout.readline() == "there\n"
            Runner(tmp_path, [])
            assert len(list(tmp_path.iterdir())) == 3
            other.communicate("")
        Runner(tmp_path, [])
        assert [path.name for path in tmp_path.iterdir()] == [".new-mine"]

    def test_a_reused_number_of_a_process_is_reported_by_its_start(self, tmp_path):
        (tmp_path / f".new-{os.getpid()}-1-abc.png").write_text("")
        Runner(tmp_path, [])
        assert not list(tmp_path.iterdir())


class TestRunner:
    def test_what_a_step_needs_is_done_first_and_counts(self, tmp_path):
        done, reported = [], {"below": "1", "above": "1"}

        def step(name, **more):
            def make(folder, force):
                done.append(name)
                files.write_bytes(folder / f"{name}.txt", b"made")
                return Files((folder / f"{name}.txt",))

            return Step(name=name, folder="made here", inputs=lambda: [reported[name]], make=make, **more)

        def run(*names, force=False):
            done.clear()
            runner = Runner(tmp_path, [step("above", needs=("below",)), step("below")])
            for name in names:
                runner.run(name, force=force)
            return list(done)

        assert run("above") == ["below", "above"]
        assert run("above", "below") == []
        reported["above"] = "2"
        assert run("above") == ["above"]
        reported["below"] = "2"
        assert run("above") == ["below", "above"]
        assert run("above", force=True) == ["above"]
        assert run("above", "above") == []
        with pytest.raises(jq.QuiltError, match='did you mean "below"'):
            run("belov")


def test_the_prompt_and_python_agree_on_what_is_done(project):
    """However their modules are loaded: what one made the other keeps."""
    quilt = project / "job.quilt.toml"
    assert jquilt("bake", quilt)[0] == 0
    code = "import sys, jagged_quilt as jq; print(jq.run(jq.read_quilt(sys.argv[1]), 'bake')['bake'].fresh)"
    first = "import jagged_quilt.blend.round_projections; " + code
    for each in (code, first):
        done = subprocess.run([sys.executable, "-c", each, quilt], capture_output=True, text=True, check=True)
        assert done.stdout.strip() == "False"
