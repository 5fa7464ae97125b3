"""What can be wrong with the maps of a swatch as a set: names, alphas, sizes, copies, borders."""

from __future__ import annotations

import numpy as np

from jagged_quilt.audit import measures as m
from jagged_quilt.audit.finding import SMALL, Bench, leave_out, map_rule
from jagged_quilt.foundation.files import fingerprint
from jagged_quilt.foundation.json_types import Stored
from jagged_quilt.maps.names import roles_of_file
from jagged_quilt.maps.roles import MapRole

_CUT_OUT = 0.95  # the share of an alpha that is black or white
_BELONGS = 0.5  # the correlation from which an alpha holds height
_SAME_PROPORTIONS = 0.02  # so little off, a tile's proportions are those of its maps
SEAM_SEEN = 0.25
"""The seam score from which a border is a fault."""


def _names(bench: Bench) -> None:
    for path in bench.source.unused:
        roles = roles_of_file(path) or ()
        if len(roles) > 1:
            listed = ", ".join(f'"{role.key if role else "none"}"' for role in roles)
            bench.fault(
                "packed file",
                f"{path.name} seems to hold several maps in its channels, and is not used",
                file=path,
                mend=f'[[swatch.map]]\nfile = "{path.name}"\nroles = [{listed}]\n',
            )
        else:
            bench.note("unused", f"{path.name} fits no role and is not used", file=path, mend=leave_out(path.name))


def _alphas(bench: Bench) -> None:
    for role, source in bench.source.sources.items():
        image = bench.images.get(source.file)
        if image is None or source.channel or "a" not in (name.lower() for name in image.channels):
            continue
        alpha = image.texels[..., [name.lower() for name in image.channels].index("a")]
        same = bool((alpha == alpha.flat[0]).all())
        if same and alpha.flat[0] == (np.iinfo(alpha.dtype).max if alpha.dtype.kind == "u" else 1):
            continue  # as if it were not there
        if not same:
            bench.note("alpha", f"its alpha is not read: {_guess(bench, alpha)}", role, measured=_spread(alpha))
        else:
            rest = "".join(name.lower() for name in image.channels if name.lower() != "a")
            bench.note(
                "empty alpha",
                "its alpha carries nothing",
                role,
                measured=f"{alpha.flat[0]} everywhere",
                mend=map_rule(role, channel=rest),
            )


def _greys(bench: Bench) -> None:
    for role, source in bench.source.sources.items():
        image = bench.images.get(source.file)
        if image is None or role.value.channels != 1 or source.channel or image.texels.shape[2] < 3 or role not in bench.maps:
            continue
        colour = image.texels[..., :3]
        apart = float((colour.max(axis=2) - colour.min(axis=2)).max())
        if apart > 0:
            whole = float(np.iinfo(colour.dtype).max) if colour.dtype.kind == "u" else 1.0
            measured = f"they differ by up to {255 * apart / whole:.0f} of 255"
            bench.note("nearly grey", "the mean of its three channels is taken", role, measured=measured)


def _spread(alpha: Stored) -> str:
    whole = float(np.iinfo(alpha.dtype).max) if alpha.dtype.kind == "u" else 1.0
    return f"{alpha.min() / whole:.2f} to {alpha.max() / whole:.2f}, {alpha.mean() / whole:.2f} on average"


def _guess(bench: Bench, alpha: Stored) -> str:
    """What an alpha that nobody mentions may hold."""
    whole = float(np.iinfo(alpha.dtype).max) if alpha.dtype.kind == "u" else 1.0
    ends = float(((alpha < 0.02 * whole) | (alpha > 0.98 * whole)).mean())
    if ends > _CUT_OUT:
        return f"a cut-out, by the {100 * ends:.0f} % of it that is black or white"
    height = bench.maps.get(MapRole.HEIGHT)
    if height is not None and height.shape == alpha.shape:
        alike = m.correlation(alpha.astype(np.float32), height.values[..., 0])
        if abs(alike) > _BELONGS:
            return f"height, which it goes with by a correlation of {alike:.2f}"
    return "height or gloss; say which, if it is of use, with a block of that role and channel"


def _sizes(bench: Bench) -> None:
    sizes = {role: each.shape for role, each in bench.maps.items() if max(each.shape) > SMALL}
    shapes = sorted({(w, h) for h, w in sizes.values()})
    if len(shapes) > 1:
        crooked = len({w / h for w, h in shapes}) > 1
        bench.tell(
            "fault" if crooked else "note",
            "sizes",
            "maps of different proportions cannot lie upon each other" if crooked else "its maps have different sizes",
            measured=", ".join(f"{w} x {h}" for w, h in shapes),
        )
    is_said = all(abs(h / w - bench.source.aspect) < _SAME_PROPORTIONS * h / w for h, w in sizes.values())
    if any(h != w for h, w in sizes.values()) and bench.source.fit == "stretch" and not is_said:
        bench.note(
            "not square",
            "maps that are not square are stretched to a square",
            measured=", ".join(f"{w} x {h}" for w, h in shapes),
            mend='fit = "repeat"\n',
        )
    small = {role: max(size) for role, size in sizes.items() if max(size) < bench.texels}
    if small:
        largest = max(max(size) for size in sizes.values())
        bench.note(
            "enlarged",
            f"packing at {bench.texels} enlarges {', '.join(role.key for role in small)}",
            measured=f"{min(small.values())} texels along the longer side",
            mend=f"[arrays]\nside = {1 << (largest.bit_length() - 1)}\n" if largest < bench.texels else "",
        )


def _duplicates(bench: Bench) -> None:
    seen: dict[tuple[object, ...], MapRole] = {}
    for role in (each for each in MapRole if each in bench.maps):
        texels, file = bench.maps[role].texels, bench.source.sources[role].file
        key = (texels.shape, texels.dtype.str, fingerprint(np.ascontiguousarray(texels).data.cast("B")))
        other = seen.setdefault(key, role)
        alone = bench.source.sources[other].file != file
        if other is not role and alone and max(bench.maps[role].shape) > SMALL and not bench.has(role, "constant"):
            bench.fault(
                "same map twice",
                f"the {role.key} map holds the same texels as the {other.key} map",
                role,
                measured=f"every texel as in {bench.source.sources[other].file.name}",
                mend=leave_out(file.name),
            )


def _seams(bench: Bench) -> None:
    bench.seams = {role: m.seam_of(each.texels) for role, each in bench.maps.items() if max(each.shape) > SMALL}
    role = max(bench.seams, key=lambda each: bench.seams[each].worst, default=None)
    if role is not None and bench.seams[role].worst > SEAM_SEEN and bench.source.seams == "keep":
        seam = bench.seams[role]
        bench.fault(
            "seam",
            "its border shows when it repeats",
            role,
            mend='seams = "mirror"\n',
            measured=f"seam score {seam.sides:.2f} where left meets right, {seam.ends:.2f} where top meets bottom",
        )


SET_CHECKS = (_alphas, _greys, _sizes, _duplicates, _seams)
NAME_CHECKS = (_names,)
