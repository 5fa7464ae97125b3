"""The contract of an exporter: something that is written of a quilt for other programs, with options of its own.

A new one is one module: a frozen dataclass below `Exporter`, whose fields, made by `option`, are its options in Python and on
the command line alike.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping
from dataclasses import dataclass, field, fields
from pathlib import Path
from typing import ClassVar

from jagged_quilt.foundation.errors import RangeError
from jagged_quilt.foundation.json_types import Unchecked
from jagged_quilt.results.results import Results


@dataclass(frozen=True, slots=True)
class Written:
    """What an exporter did.

    Attributes
    ----------
    files : tuple of Path
    remark : str
        What is to be said of all of it.
    lost : tuple of str
        What the quilt has and the files have not, a line each.
    notes : tuple of str
        What a reader of the files should know, a line each.
    """

    files: tuple[Path, ...]
    remark: str = ""
    lost: tuple[str, ...] = ()
    notes: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Choice:
    """How an option is said on the command line: its name there, what it does, and the words that it takes."""

    flag: str
    help: str
    words: tuple[str | int, ...] = ()
    metavar: str = ""


def option(default: Unchecked, help: str, *, flag: str = "", words: Collection[str | int] = (), metavar: str = "") -> Unchecked:
    """A field of an exporter that is an option, too.

    flag : what it is called on the command line; its own name where it is not given.
    words : what it may be; of a tuple, each of its members.
    """
    return field(default=default, metadata={"choice": Choice(flag, help, tuple(words), metavar)})


EXPORTERS: dict[str, type[Exporter]] = {}
"""Every exporter by its word on the command line; a new one is here as soon as it is defined."""


@dataclass(frozen=True)
class Exporter:
    """Writes something of a quilt into a folder.

    Attributes
    ----------
    key : str
        Its word on the command line, and the name of its step.
    what : mapping
        What its files are, by their stems, to be printed beside them.
    """

    key: ClassVar[str] = ""
    folder: ClassVar[str] = "export"
    what: ClassVar[Mapping[str, str]] = {}

    def __init_subclass__(cls) -> None:
        if cls.key:
            EXPORTERS[cls.key] = cls

    def __post_init__(self) -> None:
        for name, choice in choices_of(type(self)):
            value = getattr(self, name)
            for each in value if isinstance(value, tuple) else (value,):
                if choice.words and each is not None and each not in choice.words:
                    raise RangeError(f"{choice.flag or name} must be one of {', '.join(map(str, choice.words))}; got {each!r}")

    @property
    def name(self) -> str:
        """The name of its step: options that lead to other files make another step."""
        return f"export {self.key}"

    @property
    def into(self) -> Path | None:
        """A folder outside of the results, whose files are no step's and are written each time; a field may stand for it."""
        return None

    def steps(self, results: Results) -> list[str]:
        """The steps of the quilt whose results it may read: what is written is kept while these, what the quilt file says, its
        swatches and its ground stay. One that reads meshes names the steps that bake them."""
        return [name for name in ("pack", "weigh", "bake", *results.mesh_steps) if name in results.runner.steps]

    def write(self, results: Results, folder: Path) -> Written:
        """Write into a folder.

        Raises
        ------
        QuiltError
            If the quilt has nothing of the kind, or options contradict each other.
        """
        raise NotImplementedError


def choices_of(kind: type[Exporter]) -> Iterator[tuple[str, Choice]]:
    """Yield the options of an exporter: the name of the field, and how it is said."""
    for each in fields(kind):
        if "choice" in each.metadata:
            yield each.name, each.metadata["choice"]
