"""A mask that a function of one's own answers."""

from __future__ import annotations

import pickle
from collections.abc import Callable
from dataclasses import dataclass
from types import CodeType, ModuleType

import numpy as np
from numpy.typing import ArrayLike

from jagged_quilt.foundation.errors import RangeError, ShapeError
from jagged_quilt.foundation.files import fingerprint
from jagged_quilt.foundation.points import Points
from jagged_quilt.masks.mask import Answers, Mask


@dataclass(frozen=True, slots=True, eq=False)
class MaskOf(Mask):
    """A mask of a function.

    Attributes
    ----------
    function : callable
        Given positions (N, 3) float64 in metres, x east, y up and z south; or, if its parameter is called `points`, all of
        `Points` (normals, uv, footprints …). Returns a number from 0 to 1 for each, (N,), or one for all. It is called on
        several threads at once.
    name : str
        What to call it.
    made_from : str, optional
        What its answers depend on beside its code, the values that it closes over and the globals that it reads: results that
        it went into are kept only while all these stay. Say here what else it reads: files, or what your other functions do.

    Examples
    --------
    >>> import numpy as np
    >>> high = MaskOf(lambda places: np.clip(places[:, 1] / 10, 0, 1), name="high up")
    >>> high.answer(Points.of([[0, 5, 0]], [[0, 1, 0]]))
    array([0.5], dtype=float32)
    """

    function: Callable[..., ArrayLike]
    name: str = ""
    made_from: str | None = None

    def __post_init__(self) -> None:
        if not callable(self.function):
            raise ShapeError(f"a mask of a function needs one: jq.MaskOf(lambda places: …); got {type(self.function).__name__}")
        if not self.name:
            object.__setattr__(self, "name", getattr(self.function, "__name__", type(self.function).__name__))

    def __repr__(self) -> str:
        return f"<MaskOf {self.name}>"

    @property
    def stamp(self) -> str | None:
        """A hash of its code, of the values and globals that it reads and of `made_from`; None if those cannot be known."""
        code = getattr(self.function, "__code__", None)
        if code is None:
            return self.made_from
        facts = repr(_facts_of(code))
        try:
            reads = [cell.cell_contents for cell in self.function.__closure__ or ()]
            reads += [self.function.__defaults__, self.function.__kwdefaults__, *_globals_of(code, self.function.__globals__)]
            read = pickle.dumps(reads)
        except (ValueError, TypeError, AttributeError, pickle.PicklingError):
            return None if self.made_from is None else fingerprint(facts, self.made_from)
        return fingerprint(facts, read, repr(self.made_from))

    @property
    def summary(self) -> str:
        return f'function "{self.name}"'

    def answer(self, points: Points) -> Answers:
        wants_all = "points" in getattr(getattr(self.function, "__code__", None), "co_varnames", ())[:1]
        try:
            given = np.asarray(self.function(points if wants_all else points.world), np.float32)
        except (TypeError, ValueError, IndexError, AttributeError) as error:
            raise ShapeError(f'mask "{self.name}": its function failed on {len(points)} positions: {error}') from error
        if given.shape not in ((), (1,), (len(points),)):
            raise ShapeError(f'mask "{self.name}": must return a number for each of {len(points)} positions; got {given.shape}')
        if not np.isfinite(given).all():
            raise RangeError(f'mask "{self.name}": returned {int((~np.isfinite(given)).sum())} values that are NaN or infinite')
        low, high = (float(given.min()), float(given.max())) if given.size else (0.0, 0.0)
        if low < -1e-6 or high > 1 + 1e-6:
            raise RangeError(f'mask "{self.name}": must return numbers from 0 to 1 (np.clip); got {low:.3g} to {high:.3g}')
        return np.clip(np.broadcast_to(given, (len(points),)), 0, 1).astype(np.float32)


def _facts_of(code: CodeType) -> tuple[object, ...]:
    """What a piece of code does, whatever its place in a file."""
    consts = [_facts_of(each) if isinstance(each, CodeType) else repr(each) for each in code.co_consts]
    return code.co_code, code.co_names, code.co_varnames, consts


def _globals_of(code: CodeType, known: dict[str, object]) -> list[object]:
    """The globals that a piece of code reads, but modules, which are told by their names."""
    inner = [each for each in code.co_consts if isinstance(each, CodeType)]
    own = [known[name] for name in code.co_names if name in known and not isinstance(known[name], ModuleType)]
    return [*own, *(each for one in inner for each in _globals_of(one, known))]
