"""Looking again at every change, in a process as people use it and by the library; kernels compiled ahead."""

import json
import os
import queue
import re
import signal
import subprocess
import sys
import threading
import time

import numpy as np
import pytest

import jagged_quilt as jq
from compile_kernels import write_jar_project
from conftest import fresh_jquilt, jquilt
from jagged_quilt.foundation.kernel_cache import cache_folder
from jagged_quilt.foundation.shipped_kernels import HOST, RECORD, can_run
from jagged_quilt.images import read_image, write_image
from jagged_quilt.results.compile_families import keep_family
from jagged_quilt.results.look import COARSE
from jagged_quilt.results.warm import cold

WAIT = 120  # seconds for a line on a slow machine


@pytest.fixture
def project(tmp_path):
    path = write_jar_project(tmp_path / "project")
    path.write_text(path.read_text() + "\n[view]\nsun = [300, 40]\n")
    return path


class Looking:
    """`jquilt look` as a process, and the lines that it writes."""

    def __init__(self, *words):
        command = [sys.executable, "-u", "-m", "jagged_quilt", "look", *map(str, words)]
        self.process = subprocess.Popen(
            command,
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            text=True,
            preexec_fn=lambda: signal.signal(signal.SIGINT, signal.SIG_DFL),  # background jobs may be deaf to it
        )
        self.lines = queue.Queue()
        self.reader = threading.Thread(target=lambda: [self.lines.put(line) for line in self.process.stdout])
        self.reader.start()

    def until(self, words):
        """Return the next line with such words."""
        end, seen = time.monotonic() + WAIT, []
        while True:
            try:
                seen.append(self.lines.get(timeout=max(0.1, end - time.monotonic())))
            except queue.Empty:
                raise AssertionError(f"no line with {words!r} among {seen}") from None
            if re.search(words, seen[-1]):
                return seen[-1]

    def stop(self):
        self.process.kill()
        self.process.wait()
        self.reader.join()
        self.process.stdout.close()

    def end(self):
        self.process.send_signal(signal.SIGINT)
        self.until("no longer looking")
        return self.process.wait(WAIT)


class TestLook:
    def test_a_saved_change_is_drawn_small_and_then_whole_and_a_broken_file_changes_nothing(self, project):
        picture, text = project.parent / "out" / "pictures" / "view.png", project.read_text()
        looking = Looking(project)
        try:
            looking.until("small after")
            looking.until(r"whole after .*view\.png")
            before = read_image(picture)
            project.write_text(text.replace("sun = [300, 40]", "sun = [120, 20]"))
            looking.until("small after")
            looking.until("whole after")
            after = read_image(picture)
            assert (before != after).any()
            project.write_text(text + "\nnonsense = [\n")
            assert "job.quilt.toml" in looking.until("not TOML")
            looking.until("the last good picture stays")
            assert np.array_equal(read_image(picture), after)
            project.write_text(text)
            looking.until("whole after")
            assert np.array_equal(read_image(picture), before)
            assert looking.end() == 0
        finally:
            looking.stop()

    def test_only_what_the_quilt_file_names_starts_a_redraw(self, project):
        """A log of its own output, or a picture saved beside it, does not, not even while the file is wrong."""
        text, looking = project.read_text(), Looking(project)
        try:
            looking.until("whole after")
            for number in range(8):
                (project.parent / "look.log").write_text(f"{number} lines")
                write_image(project.parent / "shot.png", np.zeros((4, 4, 3), np.uint8))
                time.sleep(0.1)
            time.sleep(0.8)
            assert looking.lines.empty()
            project.write_text(text + "\nnonsense = [\n")
            looking.until("the last good picture stays")
            for number in range(8):
                (project.parent / "look.log").write_text(f"{number} lines")
                time.sleep(0.1)
            time.sleep(0.8)
            assert looking.lines.empty()
            project.write_text(text)
            looking.until("whole after")
            write_image(project.parent / "clay" / "clay_diffuse.png", np.full((16, 16, 3), 99, np.uint8))
            looking.until("whole after")
        finally:
            looking.stop()

    def test_what_did_not_change_stays_in_memory(self, project):
        look = jq.Look(project, work=jq.Work(threads=1))
        small, whole = look.draw()
        assert [small.is_whole, whole.is_whole] == [False, True]
        first = look._kept.results
        project.write_text(project.read_text().replace("[weights]", "[weights]\nkeep = 2"))
        list(look.draw({project}))
        second = look._kept.results
        assert second.quilt.terrain is first.quilt.terrain
        assert second.quilt.meshes is first.quilt.meshes
        assert second.arrays is first.arrays
        assert list(look._kept._weights.values())[-1][2].weights.shape[2] == 2
        ground = project.parent / "ground.png"
        list(look.draw({ground}))
        assert look._kept.results.quilt.terrain is not second.quilt.terrain

    def test_the_small_picture_is_the_whole_one_in_squares(self, project):
        look = jq.Look(project, kinds=("normal",), work=jq.Work(threads=1))
        drawn = look.draw()
        next(drawn)
        small = read_image(project.parent / "out" / "pictures" / "view.png")
        next(drawn)
        whole = read_image(project.parent / "out" / "pictures" / "view.png")
        assert small.shape == whole.shape == (800, 1280, 3)
        assert np.array_equal(small, small[::COARSE, ::COARSE].repeat(COARSE, axis=0).repeat(COARSE, axis=1))
        assert np.abs(small.astype(int) - whole).mean() < 8

    def test_it_is_what_show_draws(self, project):
        list(jq.Look(project).draw())
        looked = read_image(project.parent / "out" / "pictures" / "view.png")
        jq.run(jq.read_quilt(project), "view", force=True)
        assert np.array_equal(looked, read_image(project.parent / "out" / "pictures" / "view.png"))

    def test_files_elsewhere_are_followed_too(self, project, tmp_path):
        """A heightmap that lies outside of the quilt file's folder."""
        ground = tmp_path / "ground.png"
        (project.parent / "ground.png").rename(ground)
        text = project.read_text().replace('terrain = "ground.png"', 'terrain = "../ground.png"')
        project.write_text('allow = [".."]\n' + text)
        look, seen = jq.Look(project, ["riser"], work=jq.Work(threads=1)), []

        def follow():
            for _, each in zip(range(2), look.watch(), strict=False):
                seen.append(each)

        thread = threading.Thread(target=follow)
        thread.start()
        end = time.monotonic() + WAIT
        while not seen and time.monotonic() < end:
            time.sleep(0.2)
        time.sleep(1)
        write_image(ground, read_image(ground)[::-1].copy())
        thread.join(WAIT)
        assert [each.is_whole for each in seen] == [True, True]
        assert np.array_equal(look._kept.results.quilt.terrain.heights, jq.read_quilt(project).terrain.heights)

    def test_what_cannot_be_looked_at_is_refused(self, project):
        code, _, errors = jquilt("look", project, "debug", "stretsh")
        assert (code, 'did you mean "stretch"' in errors) == (2, True)
        assert jquilt("look", project.parent / "none.toml")[0] == 2


class TestWarm:
    def test_it_is_done_once(self, tmp_path):
        """The session has compiled all; another cache has nothing of it."""
        assert cold() == []
        code, said, errors = jquilt("warm")
        assert (code, errors) == (0, "")
        assert said.startswith("nothing to do: all kernels are compiled; they are kept in ")
        code = "from jagged_quilt.results.warm import cold; print(*cold(['pack', 'ground']))"
        env = {**os.environ, "NUMBA_CACHE_DIR": str(tmp_path)}
        reported = subprocess.run([sys.executable, "-c", code], env=env, capture_output=True, text=True, check=True).stdout
        assert reported.split() == ["pack", "ground"]

    def test_a_cold_part_is_compiled_announced_and_remembered(self, tmp_path):
        env = {**os.environ, "NUMBA_CACHE_DIR": str(tmp_path)}
        code = "import jagged_quilt as jq; print(*jq.warm(['pack'], work=jq.Work(progress=lambda *told: print(told))))"
        for wanted in ("pack", ""):
            reported = subprocess.run([sys.executable, "-c", code], env=env, capture_output=True, text=True, check=True).stdout
            lines = reported.splitlines()
            assert lines[-1:] == [wanted]  # the names of the parts; an empty line where all was there
            assert any(line.startswith("('compiling', 0, ") for line in lines) == bool(wanted)

    def test_kernels_that_came_along_are_loaded_where_they_fit(self, tmp_path):
        """Of the same sources and for a processor that has what they need; all else is compiled."""
        family = tmp_path / "compiled" / HOST
        keep_family(cache_folder().parent, family)
        code = (
            "import sys, pathlib; from jagged_quilt.foundation import shipped_kernels as s\n"
            "s.SHIPPED = pathlib.Path(sys.argv[1])\n"
            "from jagged_quilt.results.rehearsal import when_compiling, rehearse_pages\n"
            "from jagged_quilt.results.warm import cold\n"
            "names = []\n"
            "with when_compiling(names.append): rehearse_pages()\n"
            "print(len(names), len(cold()))"
        )

        def compiled(cache, **settings):
            env = {**os.environ, "NUMBA_CACHE_DIR": str(tmp_path / cache), **settings}
            command = [sys.executable, "-c", code, str(family.parent)]
            return [
                int(each)
                for each in subprocess.run(command, env=env, capture_output=True, text=True, check=True).stdout.split()
            ]

        assert compiled("fits") == [0, 0]
        assert not list((tmp_path / "fits").rglob("*.nbc"))
        assert compiled("told", NUMBA_CPU_NAME="generic", NUMBA_CPU_FEATURES="")[1] > 0  # somebody says for what to compile
        record = json.loads((family / RECORD).read_text())
        for key, value in (("target", ["x86_64-unknown-none", "other", ""]), ("of", "other sources")):
            (family / RECORD).write_text(json.dumps(record | {key: value}))
            assert compiled(key)[1] > 0
        assert not can_run("x86-64-v4") or can_run("x86-64-v3")

    def test_help_and_version_load_no_compiler(self):
        for words in (["--help"], ["--version"], ["bake", "--help"]):
            code = f"import sys; sys.argv = ['jquilt', *{words}]\nfrom jagged_quilt.cli.main import main\n"
            code += "try: main()\nexcept SystemExit: pass\nassert 'numba' not in sys.modules\n"
            subprocess.run([sys.executable, "-c", code], check=True, capture_output=True)

    def test_wide_vectors_are_asked_for_first(self):
        code = (
            "import jagged_quilt as jq\n"
            "has = jq.wide_vectors()\n"
            "import jagged_quilt.blend._kernels\n"
            "from numba.core.registry import cpu_target\n"
            "assert ('-prefer-256-bit' in cpu_target.target_context.codegen().magic_tuple()[2]) or not has\n"
            "try: print(jq.wide_vectors())\n"
            "except jq.QuiltError as error: print(error)\n"
        )
        reported = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True).stdout
        assert "before kernels are loaded" in reported or reported == "False\n"
        assert fresh_jquilt("--wide", "--version")[1].startswith("Jagged Quilt")
