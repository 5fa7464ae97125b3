"""Pictures as words after the quilt file, as `show` and `look` take them."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass, field

import click

REQUESTS = {
    "debug": "KIND...",
    "compare": "A [B]",
    "without": "ROLE",
    "swing": "STEPS[:LIGHT]",
    "sweep": "KEY=FROM:TO:COUNT",
}
"""Words that take more words, and which."""


@dataclass
class Asked:
    """What the words after the quilt file ask for."""

    pictures: list[str] = field(default_factory=list)
    debug: list[str] = field(default_factory=list)
    compared: tuple[str, ...] = ()
    without: str = ""
    swing: str = ""
    sweep: str = ""

    @classmethod
    def of(cls, words: Sequence[str], pictures: Collection[str], kinds: Collection[str]) -> Asked:
        """Read words: pictures, and the requests `debug KIND...`, `compare A [B]`, `without ROLE`, `swing STEPS[:LIGHT]` and
        `sweep KEY=FROM:TO:COUNT`."""
        from jagged_quilt.foundation.checks import known_name
        from jagged_quilt.foundation.errors import RangeError

        asked, rest = cls(), list(words)
        known = [*pictures, *REQUESTS]
        while rest:
            word = rest.pop(0)
            if word in REQUESTS and not rest:
                raise RangeError(f"{word} needs more words: jquilt show FILE {word} {REQUESTS[word]}")
            if word == "debug":
                asked.debug.append(known_name("kind of debug picture", rest.pop(0), kinds))
                while rest and rest[0] in kinds:
                    asked.debug.append(rest.pop(0))
            elif word == "compare":
                asked.compared = (rest.pop(0),)
                if rest and rest[0] not in known:
                    asked.compared += (rest.pop(0),)
            elif word in REQUESTS:
                setattr(asked, word, rest.pop(0))
            else:
                asked.pictures.append(known_name("picture", word, known))
        return asked


class PictureCommand(click.Command):
    """Says of a word that is written as a switch how it is written."""

    def parse_args(self, ctx: click.Context, args: list[str]) -> list[str]:
        try:
            return super().parse_args(ctx, args)
        except click.NoSuchOption as error:
            from jagged_quilt.results.pictures import PICTURES

            word = error.option_name.lstrip("-")
            if word in (*PICTURES, *REQUESTS):
                ctx.fail(f"{word} is a word, and no switch: jquilt {self.name} FILE {word} {REQUESTS.get(word, '')}".rstrip())
            raise
