"""The results of a quilt: all of its steps, and its pictures."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from pathlib import Path

from jagged_quilt.foundation.checks import known_name
from jagged_quilt.foundation.errors import RangeError
from jagged_quilt.foundation.locks import alone_with
from jagged_quilt.foundation.work import ANYHOW, Work
from jagged_quilt.quiltfile.quilt import Quilt
from jagged_quilt.quiltfile.reading import read_quilt
from jagged_quilt.results.bake_steps import bake_steps, mesh_step
from jagged_quilt.results.pack_step import pack_steps
from jagged_quilt.results.pictures import PICTURES, picture_steps
from jagged_quilt.results.project import Project
from jagged_quilt.results.step import Made, Step, kernels
from jagged_quilt.results.weigh_steps import weigh_steps

STEPS = (pack_steps, weigh_steps, bake_steps)
"""What answers the steps of a project, those first that others wait for; a new step is a function here."""
_WANTED = {
    "adopt": "nothing to adopt; say what with an [adopt] table",
    "weigh": "nothing to weigh; say a [surface] and its [[layer]]s",
    "bake": "no ground to bake; say a [surface] and its [[layer]]s",
}
"""What a quilt file must say for a step."""
_REQUESTED = {
    "sweep": kernels("weigh"),
    "pages": kernels("blend weigh pages"),
    "compare": kernels("blend weigh ground meshes"),
    "debug": kernels("blend weigh ground meshes pack"),
}
"""Which kernels it takes to draw what is no step."""


class Results(Project):
    """The folder of results of one quilt, with all steps; see `Project` for the parameters."""

    def __init__(self, quilt: Quilt, folder: Path | None = None, **how: object) -> None:
        super().__init__(quilt, folder, **how)  # type: ignore[arg-type]
        for steps in STEPS:
            for step in steps(self):
                self.runner.add(step)
        for step in picture_steps(self):
            self.runner.add(step)

    def __repr__(self) -> str:
        return f"<Results of {self.quilt.path.name} in {self.folder}: {', '.join(self.runner.steps)}>"

    def run(self, name: str, *, force: bool = False) -> Made:
        """Do a step, or draw a picture, unless that is done; with `force` in any case."""
        if name in PICTURES:
            self.picture_named(name)
        elif name not in self.runner.steps and name in _WANTED:
            raise RangeError(f"{self.quilt.path}: {_WANTED[name]}")
        known_name("step", name, self.runner.steps)
        return self.runner.run(name, force=force)

    def draw(self, names: Sequence[str], *, force: bool = False) -> list[Made]:
        """Draw pictures, or leave those that are as they would be: some at once, since words and sheets leave cores idle."""
        stale = [name for name in names if force or not self.runner.is_done(self.picture_named(name))]
        for needed in dict.fromkeys(each for name in stale for each in self.runner.steps[name].needs):
            self.run(needed)
        done: dict[str, Made] = {}
        if any("weigh" in self.runner.steps[name].needs for name in stale):
            self.weights  # noqa: B018 (loaded before threads share it)
        if any("pack" in self.runner.steps[name].needs for name in stale):
            self.arrays  # noqa: B018

        def draw_one(name: str) -> None:
            done[name] = self.run(name, force=force)

        longest_first = sorted(stale, key=lambda name: -PICTURES[name].effort)
        self.work.through(longest_first, draw_one, step="drawing")
        return [done.get(name) or self.run(name) for name in names]

    def kernels_for(self, names: Collection[str]) -> set[str]:
        """Return which parts of the kernels (see `warm`) some steps or pictures take, and those that they wait for."""
        parts: set[str] = set()
        waiting = list(names)
        while waiting:
            name = waiting.pop()
            step: Step | None = self.runner.steps.get(name)
            waiting += step.needs if step else ()
            parts |= step.kernels if step else _REQUESTED.get(name, frozenset())
        return parts if self.quilt.table.mesh else parts - {"meshes"}

    @property
    def mesh_steps(self) -> list[str]:
        """The steps that bake the meshes, in the order of the file."""
        return [mesh_step(table.name) for table in self.quilt.table.mesh]

    @property
    def pictures(self) -> list[str]:
        """The pictures that this quilt has something to show in."""
        return [name for name in PICTURES if name in self.runner.steps]

    def picture_named(self, name: str) -> str:
        """Return the name of a picture; raise `QuiltError` if there is none of that name, or nothing to show in it."""
        known_name("picture", name, PICTURES)
        if name not in self.runner.steps:
            raise RangeError(f'{self.quilt.path}: there is nothing to show as "{name}"; {PICTURES[name].wants}')
        return name


def run(
    quilt: Quilt | Path | str,
    *steps: str,
    out: Path | str | None = None,
    force: bool = False,
    work: Work = ANYHOW,
) -> dict[str, Made]:
    """Do steps of a quilt and draw its pictures, as the command line does; only what changed is done again.

    Parameters
    ----------
    quilt : Quilt or path of a quilt file
    steps : str
        "pack", "adopt", "weigh", "films", "bake", "bake NAME" of a mesh, or a picture: "swatches", "balls", "weights", "masks",
        "adopted", "maps", "view", "riser", "meshes", "audit".
    out : Path, optional
        `out` beside the quilt file where it is not given. It is this process's own until all is done: another one waits.

    Returns
    -------
    dict of step to Made
        The folder and the files of each, and whether it had to work.

    Raises
    ------
    NameNotFoundError
        If the quilt has no such step.

    Examples
    --------
    >>> made = jq.run("saltworks.quilt.toml", "weigh", out="out")
    >>> [path.name for path in made["weigh"].files]
    ['layers_0.png', 'weights_0.png', 'lost.png', 'weights.json']
    """
    if isinstance(quilt, str | Path):
        quilt = read_quilt(Path(quilt))
    results = Results(quilt, None if out is None else Path(out), work=work)
    for name in steps:
        known_name("step", name, results.runner.steps)
    with alone_with(results.folder):
        return {name: results.run(name, force=force) for name in steps}
