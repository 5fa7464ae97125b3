"""Files of daubs: JSON lines, one daub a line, replayed in order. Drop a line and it is undone."""

from __future__ import annotations

import json
from collections.abc import Sequence
from pathlib import Path

from jagged_quilt.foundation.checks import known_name, whole_number_in
from jagged_quilt.foundation.errors import FileError, QuiltError, RangeError, ShapeError
from jagged_quilt.foundation.files import read_bytes, write_bytes
from jagged_quilt.foundation.json_types import Unchecked
from jagged_quilt.foundation.locks import alone_with
from jagged_quilt.foundation.noise_kinds import NoiseKind
from jagged_quilt.foundation.reading import reads
from jagged_quilt.masks.noise_mask import Noise
from jagged_quilt.weights.daub import Daub, DaubKind

_NUMBERS = ("radius", "falloff", "strength", "ceiling", "reach")
_KEYS = ("do", "layer", "layers", "channel", "path", *_NUMBERS, "breakup", "between", "note")
_NOISE_KEYS = ("size", "form", "octaves", "threshold", "range", "seed", "period", "dimensions")


@reads("file of daubs")
def read_daubs(path: Path | str) -> tuple[Daub, ...]:
    """Read a file of daubs; empty lines say nothing.

    Raises
    ------
    FileError
        If there is no such file.
    RangeError
        If a line is no daub; the message names the line.

    Examples
    --------
    >>> jq.daubs.write_daubs("two.jsonl", 2 * [jq.Daub(path=[(4.0, 4.0)], radius=2.0, layers=["salt"])])
    >>> len(jq.daubs.read_daubs("two.jsonl"))
    2
    """
    path = Path(path)
    try:
        lines = read_bytes(path, "file of daubs").decode("utf-8").splitlines()
    except UnicodeDecodeError as error:
        raise FileError(f"{path}: a file of daubs is UTF-8 text; byte {error.start} is not") from None
    found = []
    for number, line in enumerate(lines, 1):
        if line.strip():
            found.append(daub_in_line(path, number, line))
    return tuple(found)


@reads("file of daubs")
def daub_in_line(path: Path, number: int, line: str | bytes) -> Daub:
    """Return the daub of a line of a file; raise `RangeError` that names the line if it is none."""
    try:
        return daub_of(json.loads(line))
    except json.JSONDecodeError as error:
        raise RangeError(f"{path} line {number}: not JSON: {error.msg} at column {error.colno}") from None
    except UnicodeDecodeError:
        raise FileError(f"{path} line {number}: a file of daubs is UTF-8 text") from None
    except QuiltError as error:
        raise RangeError(f"{path} line {number}: {error}") from error


def write_daubs(path: Path | str, daubs: Sequence[Daub]) -> None:
    """Write a file of daubs, or raise `FileError` and leave what was there.

    Examples
    --------
    >>> jq.daubs.write_daubs("strokes.jsonl", [jq.Daub(path=[(4.0, 4.0)], radius=2.0, layers=["salt"])])
    """
    write_bytes(Path(path), "".join(line_of(daub) + "\n" for daub in daubs).encode())


def append_daub(path: Path | str, daub: Daub) -> int:
    """Add a daub to the end of a file, which is made if it is not there, and return how many it now holds.

    The lines before stay as they are, to the byte.

    Examples
    --------
    >>> stroke = jq.Daub(path=[(4.0, 4.0), (20.0, 8.0)], radius=2.0, layers=["salt"])
    >>> jq.daubs.append_daub("daubs.jsonl", stroke)
    1
    """
    path = Path(path)
    with alone_with(path):
        before = read_bytes(path, "file of daubs") if path.exists() else b""
        count = len(read_daubs(path)) if before else 0
        gap = b"" if not before or before.endswith(b"\n") else b"\n"
        write_bytes(path, before + gap + line_of(daub).encode() + b"\n")
    return count + 1


def drop_daub(path: Path | str, number: int) -> None:
    """Take daub `number`, counted from 1, out of a file; all other lines stay as they are."""
    path = Path(path)
    with alone_with(path):
        count = len(read_daubs(path))
        lines = read_bytes(path, "file of daubs").decode("utf-8").splitlines(keepends=True)
        numbers = [index for index, line in enumerate(lines) if line.strip()]
        whole_number_in("daub", number, 1, count)
        del lines[numbers[number - 1]]
        write_bytes(path, "".join(lines).encode())


def daub_of(entry: Unchecked) -> Daub:
    """Return the daub that a JSON object tells; raise `QuiltError` if it tells none."""
    if not isinstance(entry, dict):
        raise ShapeError(f"a daub is an object in braces; got {entry!r}")
    for key in entry:
        known_name("key of a daub", key, _KEYS)
    for key in ("path", "radius"):
        if key not in entry:
            raise RangeError(f"a daub needs its {key}")
    if "layer" in entry and "layers" in entry:
        raise RangeError("a daub has one layer or a pair of layers, not both")
    layers = entry.get("layers", [entry["layer"]] if "layer" in entry else [])
    if not isinstance(layers, list) or not all(isinstance(name, str) for name in layers):
        raise ShapeError(f"layers must be names; got {layers!r}")
    if not isinstance(entry.get("channel", ""), str):
        raise ShapeError(f"channel must be a name; got {entry['channel']!r}")
    path = entry["path"]
    if not isinstance(path, list) or not all(isinstance(point, list) for point in path):
        raise ShapeError(f"path must be a list of points, each [x, z] or [x, y, z]; got {path!r}")
    return Daub(
        path=tuple(tuple(point) for point in path),
        layers=tuple(layers),
        channel=entry.get("channel", ""),
        kind=DaubKind.of(str(entry.get("do", DaubKind.PAINT)), "kind of daub"),
        breakup=_noise("breakup", entry.get("breakup")),
        between=_noise("between", entry.get("between")),
        **{key: entry[key] for key in _NUMBERS if key in entry},
    )


def line_of(daub: Daub) -> str:
    """Return a daub as one line of JSON, with what is not as usual."""
    usual = Daub(path=((0.0, 0.0),), radius=1.0, layers=("",))
    entry: dict[str, Unchecked] = {} if daub.kind is DaubKind.PAINT else {"do": daub.kind.value}
    if daub.layers:
        entry |= {"layer": daub.layers[0]} if len(daub.layers) == 1 else {"layers": list(daub.layers)}
    entry |= {"channel": daub.channel} if daub.channel else {}
    entry |= {"path": [list(point) for point in daub.path], "radius": daub.radius}
    entry |= {key: getattr(daub, key) for key in _NUMBERS[1:] if getattr(daub, key) != getattr(usual, key)}
    entry |= {
        key: _entry_of(noise) for key, noise in (("breakup", daub.breakup), ("between", daub.between)) if noise is not None
    }
    return json.dumps(entry, ensure_ascii=False)


def _entry_of(noise: Noise) -> dict[str, Unchecked]:
    """What is not as usual in a noise, and its size."""
    plain = Noise(size=noise.size)
    own = {key: getattr(noise, key) for key in _NOISE_KEYS if key != "form" and getattr(noise, key) != getattr(plain, key)}
    return {"size": noise.size} | own | ({} if noise.kind is plain.kind else {"form": str(noise.kind)})


def _noise(key: str, entry: Unchecked) -> Noise | None:
    if entry is None:
        return None
    if not isinstance(entry, dict) or "size" not in entry:
        raise ShapeError(f'{key} must be a noise with its size, as {{"size": 2.0}}; got {entry!r}')
    for each in entry:
        known_name("key of a noise", each, _NOISE_KEYS)
    own = {key: value for key, value in entry.items() if key != "form"}
    return Noise(**own, kind=NoiseKind.of(str(entry.get("form", NoiseKind.SMOOTH)), "form of noise"))
