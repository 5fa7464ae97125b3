"""What can be wrong with maps beside each other: one that is shifted, turned, of another size or of another surface."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from itertools import combinations

import numpy as np

from jagged_quilt.audit import measures as m
from jagged_quilt.audit.finding import SMALL, Bench, map_rule
from jagged_quilt.audit.registration import (
    CLOSE,
    SIDE,
    TURNS,
    Image,
    Match,
    enlarged_match,
    forms_of,
    match,
    small_copy,
    spectra_of,
)
from jagged_quilt.maps.roles import MapRole

_R = MapRole
_JUDGED = (_R.DIFFUSE, _R.NORMAL, _R.HEIGHT, _R.SPECULAR, _R.OCCLUSION, _R.ROUGHNESS, _R.GLOSS)
"""The maps that show the forms of a surface; masks of metal, glow or holes often have none in common with them."""
_FITS = 6.5  # standard deviations: two maps belong together as they lie
_OF_BEST = 0.6  # and nowhere much better
_TELLING = 2.0  # standard deviations, by which turning over one of two must help more than turning over the other
_NOTHING = 5.0  # standard deviations, below which maps have nothing in common
_SURE_OF_SIZE = 16.0  # that one is a part of another, enlarged
_SURE = 12.0  # of another place or size; of 150 real sets by many makers none reaches it as it is
_CHANCE = "chance gives 4 to 8"
_TURNED_OVER = "upside down"
_PATCH = 256  # texels along the side of what is measured for curl
_SWAPPED = 0.5  # times the curl that is left; of 150 real normal maps none has less than 1.2


@dataclass(frozen=True)
class _Fit:
    """Where a map fits another one: how well, in words, and what to write."""

    score: float
    words: str
    mend: str = ""
    sure: float = _SURE


def _swapped(bench: Bench) -> None:
    """Find normals whose red and green are swapped: slopes have no curl, and theirs have, until they are swapped back."""
    given = bench.part(_R.NORMAL)
    if given is None or bench.has(_R.NORMAL, "constant", "looks encoded", "misplaced", _TURNED_OVER):
        return
    some = replace(given, texels=np.ascontiguousarray(given.texels[:_PATCH, :_PATCH])).values
    x, y = some[..., 0], some[..., 1]
    y = -y if bench.source.sources[_R.NORMAL].is_green_down else y
    left = {
        (channel, green): m.curl_of(np.stack([*pair, some[..., 2]], axis=2))
        for channel, across, down in (("", x, y), ("grb", y, x))
        for green, pair in (("up", (across, down)), ("down", (across, -down)))
    }
    channel, green = min(left, key=lambda each: left[each])
    as_it_is = min(left["", "up"], left["", "down"])
    if channel and as_it_is > 1e-6 and left[channel, green] < _SWAPPED * as_it_is:
        bench.fault(
            "swapped",
            "red and green are swapped",
            _R.NORMAL,
            measured=f"swapped back, {100 * left[channel, green] / as_it_is:.0f} % of the curl of its slopes is left",
            mend=map_rule(_R.NORMAL, channel=channel, green=green),
        )


def _belonging(bench: Bench) -> None:
    """Find maps that fit none of the others as they lie."""
    roles = [
        role
        for role in _JUDGED
        if role in bench.maps and min(bench.maps[role].shape) > SMALL and not bench.has(role, "constant")
    ]
    copies = {role: small_copy(bench.maps[role]) for role in roles}
    forms = {role: forms_of(role, copy) for role, copy in copies.items()}
    roles = [role for role in roles if forms[role][0].any()]
    spectra = {role: spectra_of(forms[role]) for role in roles}
    fits = {pair: match(spectra[pair[0]], spectra[pair[1]]) for pair in combinations(roles, 2)}
    fits |= {(other, one): found.back() for (one, other), found in fits.items()}
    odd = [role for role in roles if not any(_is_here(fits[role, other]) for other in roles if other is not role)]
    if len(roles) == 2 or len(odd) == len(roles):
        odd = [role for role in odd if role is not roles[0]]  # which of two is wrong nobody can say; colour leads
    for role in odd:
        others = [other for other in roles if other is not role]
        found = [each for other in others for each in _fits(bench, role, other, copies, fits)]
        best = max(found, key=lambda each: each.score / each.sure)
        here = max(fits[role, other].here for other in others)
        if best.score >= best.sure and here < _OF_BEST * best.score:
            bench.fault(
                _TURNED_OVER if best.mend else "misplaced",
                f"it lies otherwise than the other maps: {best.words}",
                role,
                measured=f"it fits with {best.score:.0f} standard deviations there and {here:.1f} here, where {_CHANCE}",
                mend=best.mend,
            )
        elif len(roles) > 1 and here < _NOTHING:
            bench.note(
                "unrelated",
                f"the {role.key} map has no edges in common with the other maps, as if it were of another material",
                role,
                measured=f"its best fit is {here:.1f} standard deviations; {_CHANCE}",
            )


def _is_here(found: Match) -> bool:
    return found.here >= _FITS and found.here >= _OF_BEST * found.best


def _fits(
    bench: Bench,
    role: MapRole,
    other: MapRole,
    copies: dict[MapRole, Image],
    fits: dict[tuple[MapRole, MapRole], Match],
) -> Iterator[_Fit]:
    """Yield how well a map fits another one when it is moved, turned, or of another size."""
    against, name = forms_of(other, copies[other]), other.key
    theirs = spectra_of(against)
    across, down = fits[role, other].shift
    if max(abs(across), abs(down)) > CLOSE / SIDE:
        yield _Fit(
            fits[role, other].best,
            f"it is shifted against the {name} map by {100 * abs(across):.0f} % of its width to the "
            f"{'right' if across > 0 else 'left'} and {100 * abs(down):.0f} % of its height {'down' if down > 0 else 'up'}",
        )
    for words, turn in TURNS.items():
        mend = map_rule(role, upside_down=not bench.source.sources[role].upside_down) if words == _TURNED_OVER else ""
        found = match(spectra_of(forms_of(role, np.ascontiguousarray(turn(copies[role])))), theirs)
        yield _Fit(found.best, f"{words}, it fits the {name} map", mend)
    large = {each: forms_of(each, small_copy(bench.maps[each], 2 * SIDE)) for each in (role, other)}
    part, whole = enlarged_match(large[other], forms_of(role, copies[role])), enlarged_match(large[role], against)
    yield _Fit(part, f"it shows a part of the {name} map, enlarged twice", sure=_SURE_OF_SIZE)
    yield _Fit(whole, f"a part of it, enlarged twice, is what the {name} map shows", sure=_SURE_OF_SIZE)


def other_way_round(bench: Bench) -> MapRole | None:
    """Return which of normals and height, of which one lies upside down, fits the other maps better when it is turned over.

    None where there is no other map, or they do not tell.
    """
    gains = dict.fromkeys((_R.NORMAL, _R.HEIGHT), 0.0)
    others = [role for role in _JUDGED if role in bench.maps and role not in gains and min(bench.maps[role].shape) > SMALL]
    for role in gains:
        copy = small_copy(bench.maps[role])
        for other in others:
            against = spectra_of(forms_of(other, small_copy(bench.maps[other])))
            as_it_is, turned = (spectra_of(forms_of(role, np.ascontiguousarray(each))) for each in (copy, copy[::-1]))
            gains[role] += match(turned, against).here - match(as_it_is, against).here
    best, other_one = sorted(gains, key=lambda each: -gains[each])
    return best if gains[best] - gains[other_one] > _TELLING else None


BELONGING_CHECKS = (_belonging, _swapped)
