"""What can be wrong with one map, by itself or beside another of its swatch."""

from __future__ import annotations

import numpy as np

from jagged_quilt.audit import measures as m
from jagged_quilt.audit.belonging import BELONGING_CHECKS, other_way_round
from jagged_quilt.audit.finding import SMALL, Bench, leave_out, map_rule
from jagged_quilt.maps.roles import MapRole, Transfer
from jagged_quilt.maps.texture_map import TextureMap, grey_of

_R = MapRole
_BELONGS = 0.25  # correlation of slopes from which normals and height tell something of each other
_CURLED = 0.62
_SAME_Z = 0.02
_FEW_LEVELS = 64
_ENOUGH = 40  # texels expected on codes; chance would leave all of them empty once in e^40
_DIFFUSE, _UNREAL = (0.012, 0.91), 0.2  # what real surfaces reflect, and the share of a map that may lie outside
_SPECULAR_GAP, _SPECULAR_LEAST = (0.10, 0.40), 0.018


def _constants(bench: Bench) -> None:
    for role, given in bench.maps.items():
        texels = given.texels
        alone = not bench.source.sources[role].channel
        if alone and max(given.shape) > SMALL and (texels == texels[:1, :1]).all():
            value = [round(float(each), 4) for each in given.values[0, 0]]
            shown = str(value if len(value) > 1 else value[0])
            mend = f'[[swatch.map]]\nrole = "{role.key}"\nvalue = {shown}\n'
            bench.fault("constant", "every texel is the same", role, measured=f"{shown} everywhere", mend=mend)


def _encodings(bench: Bench) -> None:
    for role, given in bench.maps.items():
        if bench.has(role, "constant") or role.value.direction:
            continue
        colour = role.value.transfer is Transfer.SRGB
        if given.texels.dtype != np.uint8 or given.is_encoded != colour:
            continue
        there, expected = m.missing_codes(given.texels, encoded=not colour)
        if expected > _ENOUGH and there < 0.01 * expected:
            kind, how = ("looks linear", "linear") if colour else ("looks encoded", "srgb")
            words = "a colour map that was stored linear" if colour else "a data map that was sRGB-encoded"
            bench.fault(
                kind,
                words,
                role,
                measured=f"{there} texels lie on the codes that 8-bit conversion skips; {expected:,.0f} would",
                mend=map_rule(role, transfer=how),
            )
    normals, height = bench.part(_R.NORMAL), bench.maps.get(_R.HEIGHT)
    if normals is not None and normals.texels.shape[2] == 3 and not normals.is_encoded:
        vectors = _raw(normals)
        if m.is_encoded_normal(vectors):
            mean = vectors.mean(axis=(0, 1))
            bench.fault(
                "looks encoded",
                "a normal map that was sRGB-encoded",
                _R.NORMAL,
                measured=f"its mean leans to ({mean[0]:.2f}, {mean[1]:.2f})",
                mend=map_rule(_R.NORMAL, transfer="srgb"),
            )
    pair = bench.together()
    if pair is not None and height is not None and not bench.has(_R.HEIGHT, "looks encoded"):
        gain = m.encoding_gain(*pair) if not height.is_encoded else 0
        if gain > 0.02:
            bench.fault(
                "looks encoded",
                "a height map that was sRGB-encoded",
                _R.HEIGHT,
                mend=map_rule(_R.HEIGHT, transfer="srgb"),
                measured=f"decoded, its slopes go with the normals' better by {gain:.3f} of correlation",
            )


def _normals(bench: Bench) -> None:
    given = bench.part(_R.NORMAL)
    if given is None or bench.has(_R.NORMAL, "constant", "looks encoded"):
        return
    if given.texels.shape[2] == 3:
        lengths = m.lengths_of(_raw(given))
        measured = (
            f"length {lengths.mean:.3f} on average, {lengths.lowest:.3f} to {lengths.highest:.3f} (1st to 99th percentile)"
        )
        if lengths.inwards > 0.001:
            bench.fault(
                "inwards",
                "normals point into the surface",
                _R.NORMAL,
                mend=map_rule(_R.NORMAL, channel="rg"),
                measured=f"{100 * lengths.inwards:.1f} % of the texels",
            )
        elif abs(lengths.mean - 1) > 0.03 or lengths.lowest < 0.9 or lengths.highest > 1.1:
            if np.ptp(_raw(given)[..., 2]) < _SAME_Z:
                bench.fault(
                    "no z",
                    "blue is the same everywhere, so normals are too long where they lean; it follows from red and green",
                    _R.NORMAL,
                    measured=measured,
                    mend=map_rule(_R.NORMAL, channel="rg"),
                )
            else:
                bench.note(
                    "not unit",
                    "normals are not of unit length; they are normalised as they are read",
                    _R.NORMAL,
                    measured=measured,
                )
    _green(bench, given)


def _green(bench: Bench, given: TextureMap) -> None:
    if bench.has(_R.NORMAL, "swapped", "misplaced", "upside down"):
        return
    pair, turned = bench.together(), "up" if bench.source.sources[_R.NORMAL].is_green_down else "down"
    mend = map_rule(_R.NORMAL, green=turned)
    if pair is not None and not bench.has(_R.HEIGHT, "constant"):
        u, v = m.agreement(*pair)
        coarse, fine = m.agreement_by_scale(*pair)
        measured = f"slopes of normals and height correlate by {u:.2f} along u and {v:.2f} along v"
        if coarse * fine < 0 and min(abs(coarse), abs(fine)) > _BELONGS:
            bench.fault(
                "mixed green",
                "green points one way in its large forms and the other way in its grain: two maps were laid over each other",
                _R.NORMAL,
                measured=f"slopes along v and height correlate by {coarse:.2f} in large forms, {fine:.2f} in the grain",
            )
            return
        if abs(u) > _BELONGS and abs(v) > _BELONGS:
            if u < 0:
                invert = not bench.source.sources[_R.HEIGHT].invert
                bench.fault(
                    "height inverted",
                    "the height map is black where the normals say high",
                    _R.HEIGHT,
                    measured=measured,
                    mend=map_rule(_R.HEIGHT, invert=invert),
                )
            if u * v < 0:
                bench.fault(
                    "green", f"green points {turned}, and is read as the other way", _R.NORMAL, measured=measured, mend=mend
                )
            return
        _upside_down(bench, *pair, measured)
    share = m.curl_share(given.values)
    if share > _CURLED and not bench.has(_R.NORMAL, "upside down"):
        bench.fault(
            "green",
            f"green points {turned}, and is read as the other way",
            _R.NORMAL,
            mend=mend,
            measured=f"its slopes have {share / (1 - share):.1f} times the curl that they have with green turned round",
        )


def _upside_down(bench: Bench, normals: m.Values, height: m.Values, measured: str) -> None:
    """Normals that have nothing to do with the height map as they lie, and much when one of them is turned over."""
    u, v = m.agreement(np.ascontiguousarray(normals[::-1]), height)
    if min(abs(u), abs(v)) > _BELONGS and not any(
        bench.has(role, "upside down", "misplaced") for role in (_R.NORMAL, _R.HEIGHT)
    ):
        wrong = other_way_round(bench)
        words = "the normal map and the height map lie the other way round"
        bench.fault(
            "upside down",
            f"{words}; no other map tells which of them is wrong: set upside_down = true on that one"
            if wrong is None
            else f"{words}; the {wrong.key} map is the one that does not fit the others",
            wrong or _R.NORMAL,
            measured=f"{measured}; turned over, by {u:.2f} and {v:.2f}",
            mend="" if wrong is None else map_rule(wrong, upside_down=True),
        )


def _ranges(bench: Bench) -> None:
    diffuse, specular = bench.part(_R.DIFFUSE), bench.part(_R.SPECULAR)
    if diffuse is not None and not bench.has(_R.DIFFUSE, "looks linear") and _R.METALLIC not in bench.maps:
        light = m.luminance(diffuse.values)
        dark, bright = float((light < _DIFFUSE[0]).mean()), float((light > _DIFFUSE[1]).mean())
        if dark + bright > _UNREAL:
            reflects, share = (f"less than {_DIFFUSE[0]:g}", dark) if dark > bright else (f"more than {_DIFFUSE[1]:g}", bright)
            bench.fault(
                "unreal colour",
                f"much of it is {'darker than charcoal' if dark > bright else 'brighter than fresh snow'}: is it a colour map, "
                "and of a surface that is no metal?",
                _R.DIFFUSE,
                measured=f"{100 * share:.0f} % of it reflects {reflects}",
            )
    if specular is not None and not bench.has(_R.SPECULAR, "looks linear", "constant"):
        light = m.luminance(specular.values)
        between = float(((light > _SPECULAR_GAP[0]) & (light < _SPECULAR_GAP[1])).mean())
        below = float((light < _SPECULAR_LEAST).mean())
        if between > 0.25 or below > 0.5:
            file = bench.source.sources[_R.SPECULAR].file.name
            has_colour = grey_of(specular.texels) is None
            mend = (
                leave_out(file)
                if has_colour or _R.ROUGHNESS in bench.maps
                else f'[[swatch.map]]\nfile = "{file}"\nrole = "shininess"\n'
            )
            bench.fault(
                "unreal specular",
                "an intensity, not a reflectance: real surfaces reflect 0.02 to 0.08 head on, metals 0.45 and more",
                _R.SPECULAR,
                mend=mend,
                measured=f"{100 * between:.0f} % of it lies between {_SPECULAR_GAP[0]:g} and {_SPECULAR_GAP[1]:g}, "
                f"{100 * below:.0f} % below {_SPECULAR_LEAST:g}",
            )


def _heights(bench: Bench) -> None:
    given = bench.maps.get(_R.HEIGHT)
    if given is None or given.texels.dtype != np.uint8 or bench.has(_R.HEIGHT, "constant") or max(given.shape) <= SMALL:
        return
    levels = int((m.counts_of(given.texels) > 0).sum())
    if levels < _FEW_LEVELS:
        bench.fault(
            "stairs",
            "8-bit heights of few levels show stairs",
            _R.HEIGHT,
            measured=f"{levels} levels",
            mend=map_rule(_R.HEIGHT, smooth=True),
        )


def _raw(given: TextureMap) -> m.Values:
    """Stored normals as vectors, before they are made unit."""
    if given.texels.dtype.kind == "f":
        return given.texels if float(given.texels.min()) < 0 else given.texels * 2 - 1
    return given.meanings[given.texels]


MAP_CHECKS = (_constants, _encodings, *BELONGING_CHECKS, _normals, _ranges, _heights)
