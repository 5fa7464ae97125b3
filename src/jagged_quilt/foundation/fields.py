"""What masks may ask of a whole surface: numbers that no single point can tell."""

from __future__ import annotations

import threading
from collections.abc import Callable
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.points import Points

Answer = Callable[[Points], NDArray[np.float32]]
"""Says something, 0..1, of points, (N,)."""


class Field(Protocol):
    """A number for every place of a surface."""

    def at(self, points: Points) -> NDArray[np.float32]:
        """Return the number at each point, (N,)."""
        ...


class Shiftable(Protocol):
    """A surface on which one can look elsewhere."""

    def shifted(self, points: Points, by: NDArray[np.float32]) -> Points:
        """Return the points of the surface that lie `by` (N, 3) metres away from given ones."""
        ...


class Fields(Protocol):
    """What a surface knows of itself as a whole. What it cannot tell it refuses with a `QuiltError`, when it is asked."""

    @property
    def surface(self) -> Shiftable:
        """The surface itself."""
        ...

    def curvature(self, scale: float) -> Field:
        """Return the mean curvature in 1/m, smoothed over `scale` metres; ridges are above 0."""
        ...

    def ambient_occlusion(self, reach: float) -> Field:
        """Return how much of the sky the surface itself hides, 0..1, by what stands up to `reach` metres away."""
        ...

    def edge_distance(self, answer: Answer, texels: int) -> Field:
        """Return metres to where an answer passes one half, below 0 inside; searched on so many texels along the surface."""
        ...


class Remembering:
    """Fields that are worked out once, however many masks ask for them.

    It stands beside the masks while they are made ready, and in none of them.

    Parameters
    ----------
    answers : bool
        Keep also what masks answered, for one who weighs the same surface again and again with few of them changed.
    """

    def __init__(self, fields: Fields, *, answers: bool = False) -> None:
        self._fields, self.keeps_answers = fields, answers
        self._answers: tuple[dict[object, NDArray[np.float32]], ...] = ({}, {})
        self._known: dict[object, Field] = {}
        self._lock = threading.RLock()

    @property
    def surface(self) -> Shiftable:
        """The surface itself."""
        return self._fields.surface

    def curvature(self, scale: float) -> Field:
        """Return the curvature at a scale, once."""
        return self.remembered(("curvature", scale), lambda: self._fields.curvature(scale))

    def ambient_occlusion(self, reach: float) -> Field:
        """Return the hidden sky for a reach, once."""
        return self.remembered(("hidden sky", reach), lambda: self._fields.ambient_occlusion(reach))

    def edge_distance(self, answer: Answer, texels: int) -> Field:
        """Return the distance to where an answer passes one half; `remembered` keeps it, by what answers."""
        return self._fields.edge_distance(answer, texels)

    def answered(self, asked: object, points: Points, answer: Callable[[Points], NDArray[np.float32]]) -> NDArray[np.float32]:
        """Return what was answered before to the same question at the same points of this surface, or ask."""
        if not self.keeps_answers or not len(points):
            return answer(points)
        ends = points.position[[0, -1]].tobytes() + points.footprint[0].tobytes()
        key, (now, before) = (asked, len(points), ends), self._answers
        found = now.get(key, before.get(key))
        now[key] = answer(points) if found is None else found
        return now[key]

    def turn_over(self) -> None:
        """Forget answers that nobody asked for since the last time."""
        self._answers = ({}, self._answers[0])

    def unanswered(self) -> Remembering:
        """Return the same fields for one who asks at points that do not come again: what is answered is not kept."""
        out = Remembering(self._fields)
        out._known, out._lock = self._known, self._lock
        return out

    def remembered(self, key: object, make: Callable[[], Field]) -> Field:
        """Return what was made for a key before, or make it."""
        with self._lock:
            if key not in self._known:
                self._known[key] = make()
            return self._known[key]


class HasFields(Protocol):
    """A surface, or a canvas of one, that tells its fields."""

    @property
    def fields(self) -> Fields: ...


def fields_of(surface: Fields | HasFields) -> Fields:
    """Return the fields of a terrain or of a canvas; fields as they are."""
    return surface.fields if hasattr(surface, "fields") else surface


def remembering(surface: Fields | HasFields) -> Remembering:
    """Return the fields of a surface, worked out once; those that are already, as they are."""
    fields = fields_of(surface)
    return fields if isinstance(fields, Remembering) else Remembering(fields)
