"""Shader source as it lies beside this file, with what is there of a blend kept and the rest left away."""

from __future__ import annotations

import re
from collections.abc import Collection, Mapping
from importlib import resources


def filled(name: str, features: Collection[str], words: Mapping[str, str]) -> str:
    """Return a source of `shaders/`.

    Lines between `//?word` and `//.` are kept if the word is among the features; what stands in double braces is filled in.
    """
    text = _kept(resources.files("jagged_quilt.export").joinpath(f"shaders/{name}").read_text("utf-8"), features)
    source = re.sub(r"\{\{(\w+)\}\}", lambda found: words[found[1]], text)
    return re.sub(r"\n{3,}", "\n\n", source).strip("\n") + "\n"


def _kept(text: str, features: Collection[str]) -> str:
    """The lines of a source that stand under no feature, or under those that are there."""
    out, kept = [], [True]
    for line in text.splitlines():
        bare = line.strip()
        if bare.startswith("//?"):
            kept.append(kept[-1] and bare[3:] in features)
        elif bare == "//.":
            kept.pop()
        elif kept[-1]:
            out.append(line)
    return "\n".join(out)
