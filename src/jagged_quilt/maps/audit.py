"""The audit: what is wrong with the maps of a swatch, how that was measured, and what to write to mend it."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, Literal

import numpy as np

from jagged_quilt.foundation.errors import QuiltError
from jagged_quilt.foundation.files import fingerprint
from jagged_quilt.maps import measures as m
from jagged_quilt.maps.image_files import Image
from jagged_quilt.maps.roles import MapRole, Transfer, is_packed
from jagged_quilt.maps.swatch import Swatch, SwatchSource
from jagged_quilt.maps.texture_map import TextureMap

_R = MapRole
Level = Literal["fault", "note"]

SEAM_SEEN = 0.25
"""The seam score from which a border is a fault."""
_SMALL = 16  # texels; a map of this size or less may well be constant
_BELONGS = 0.25  # correlation of slopes from which normals and height tell something of each other
_CURLED = 0.62
_FEW_LEVELS = 64
_ENOUGH = 40  # texels expected on codes; chance would leave all of them empty once in e^40
_DIFFUSE = (0.012, 0.91)
_SPECULAR_GAP = (0.10, 0.40)


@dataclass(frozen=True, slots=True, kw_only=True)
class Finding:
    """One thing that was found.

    Attributes
    ----------
    level : "fault" or "note"
        Whether something is wrong, or only worth knowing.
    kind : str
        A short name, the same for all findings of its sort.
    swatch, role, file : str
        Where; role and file may be empty.
    what : str
        A sentence.
    measured : str
        How sure: the figure that was measured; empty where there is none.
    mend : str
        What to write in the quilt file after the swatch's own keys; empty where nothing there would help.
    """

    level: Level
    kind: str
    swatch: str
    what: str
    role: str = ""
    file: str = ""
    measured: str = ""
    mend: str = ""


@dataclass(frozen=True, eq=False, kw_only=True)
class SwatchAudit:
    """All that was found about one swatch.

    Attributes
    ----------
    name : str
    findings : tuple of Finding
    maps : dict of role to what is known of its map: file, width, height, bits, channels, seam
    swatch : Swatch or None
        As it was read; None if it could not be.
    """

    name: str
    findings: tuple[Finding, ...]
    maps: dict[str, dict[str, Any]]
    swatch: Swatch | None

    @property
    def faults(self) -> tuple[Finding, ...]:
        """Only what is wrong."""
        return tuple(each for each in self.findings if each.level == "fault")


@dataclass
class _Bench:
    """What lies on the bench while one swatch is examined."""

    source: SwatchSource
    texels: int
    maps: dict[MapRole, TextureMap] = field(default_factory=dict)
    images: dict[Path, Image] = field(default_factory=dict)
    found: list[Finding] = field(default_factory=list)
    seams: dict[MapRole, m.Seam] = field(default_factory=dict)

    def tell(
        self,
        level: Level,
        kind: str,
        what: str,
        role: MapRole | None = None,
        file: Path | None = None,
        measured: str = "",
        mend: str = "",
    ) -> None:
        if file is None and role is not None and role in self.source.sources:
            file = self.source.sources[role].file
        self.found.append(
            Finding(
                level=level,
                kind=kind,
                swatch=self.source.name,
                what=what,
                role=role.key if role else "",
                file=file.name if file else "",
                measured=measured,
                mend=mend,
            )
        )

    def has(self, role: MapRole, *kinds: str) -> bool:
        """Whether one of some kinds was found on a role."""
        return any(each.role == role.key and each.kind in kinds for each in self.found)


def audit_swatch(source: SwatchSource, *, texels: int = 512) -> SwatchAudit:
    """Examine the maps of one swatch. Nothing is raised: what cannot be read is a finding.

    Parameters
    ----------
    texels : int
        Along the side of a slice, to tell what packing would enlarge.
    """
    bench = _Bench(source, texels)
    swatch = None
    try:
        sources = source.sources
    except QuiltError as error:
        twice = "look like the" in str(error)
        bench.found.append(
            Finding(
                level="fault",
                kind="two files" if twice else "no files",
                swatch=source.name,
                what=str(error).split("; move one away")[0],
                mend=_choice(str(error)) if twice else "",
            )
        )
        return SwatchAudit(name=source.name, findings=tuple(bench.found), maps={}, swatch=None)
    for role, each in sources.items():
        try:
            bench.maps[role] = each.read(bench.images)
        except QuiltError as error:
            grey = "must be grey" in str(error)
            mend = _map(role, channel="r") if grey else _leave_out(each.file.name)
            bench.tell("fault", "colour in a grey map" if grey else "cannot be read", str(error), role, mend=mend)
    for check in _CHECKS:
        check(bench)
    if not any(each.kind in ("cannot be read", "colour in a grey map") for each in bench.found):
        try:
            swatch = source.read()
            for role, words in swatch.derived.items():
                bench.tell("note", "derived", f"no {role.key} map; made {words}", role, Path())
            for role in swatch.missing:
                neutral = " ".join(f"{value:g}" for value in role.value.neutral)
                bench.tell("note", "neutral", f"no {role.key} map; {neutral} stands in", role, Path())
        except QuiltError as error:
            bench.tell("fault", "cannot be used", str(error))
    order = {"fault": 0, "note": 1}
    found = tuple(sorted(bench.found, key=lambda each: order[each.level]))
    return SwatchAudit(name=source.name, findings=found, maps=dict(_known(bench)), swatch=swatch)


def audit_together(audits: Sequence[SwatchAudit]) -> list[Finding]:
    """Tell which swatches hold the same map."""
    seen: dict[str, tuple[str, str]] = {}
    found = []
    for audit in audits:
        for role, facts in audit.maps.items():
            key = role + facts["content"]
            if key in seen and max(facts["width"], facts["height"]) > _SMALL:
                found.append(
                    Finding(
                        level="note",
                        kind="shared map",
                        swatch=audit.name,
                        role=role,
                        file=facts["file"],
                        what=f'the same {role} map as in swatch "{seen[key][0]}"; the arrays hold it once where '
                        "all maps of a slice are the same",
                        measured=seen[key][1],
                    )
                )
            seen.setdefault(key, (audit.name, facts["file"]))
    return found


def _known(bench: _Bench) -> Iterator[tuple[str, dict[str, Any]]]:
    for role, given in bench.maps.items():
        stored = given.texels
        facts = {
            "file": bench.source.sources[role].file.name,
            "width": given.size[1],
            "height": given.size[0],
            "bits": stored.dtype.itemsize * 8,
            "channels": stored.shape[2],
            "content": fingerprint(str(stored.shape), np.ascontiguousarray(stored).tobytes()),
        }
        if role in bench.seams:
            facts["seam"] = {each: round(score, 4) for each, score in bench.seams[role]._asdict().items()}
        yield role.key, facts


def _names(bench: _Bench) -> None:
    for path in bench.source.unused:
        if is_packed(path):
            bench.tell(
                "fault",
                "packed file",
                f"{path.name} seems to hold several maps in its channels, and is not used",
                file=path,
                mend=f'[[swatch.map]]\nfile = "{path.name}"\npacked = "gltf"\n',
            )
        else:
            bench.tell("note", "unused", f"{path.name} fits no role and is not used", file=path, mend=_leave_out(path.name))


def _constants(bench: _Bench) -> None:
    for role, given in bench.maps.items():
        texels = given.texels
        alone = not bench.source.sources[role].channel
        if alone and max(given.size) > _SMALL and (texels == texels[:1, :1]).all():
            value = [round(float(each), 4) for each in given.values[0, 0]]
            told = str(value if len(value) > 1 else value[0])
            mend = f'[[swatch.map]]\nrole = "{role.key}"\nvalue = {told}\n'
            bench.tell("fault", "constant", "every texel is the same", role, measured=f"{told} everywhere", mend=mend)


def _encodings(bench: _Bench) -> None:
    for role, given in bench.maps.items():
        if bench.has(role, "constant") or role is _R.NORMAL:
            continue
        colour = role.value.transfer is Transfer.SRGB
        if given.texels.dtype != np.uint8 or given.is_encoded != colour:
            continue
        there, expected = m.missing_codes(given.texels, encoded=not colour)
        if expected > _ENOUGH and there < 0.01 * expected:
            kind, how = ("looks linear", "linear") if colour else ("looks encoded", "srgb")
            words = "a colour map that was stored linear" if colour else "a data map that was sRGB-encoded"
            bench.tell(
                "fault",
                kind,
                words,
                role,
                measured=f"{there} texels lie on the codes that 8-bit conversion skips; {expected:,.0f} would",
                mend=_map(role, transfer=how),
            )
    normals, height = bench.maps.get(_R.NORMAL), bench.maps.get(_R.HEIGHT)
    if normals is not None and normals.texels.shape[2] == 3 and not normals.is_encoded:
        vectors = _raw(normals)
        if m.is_encoded_normal(vectors):
            mean = vectors.mean(axis=(0, 1))
            bench.tell(
                "fault",
                "looks encoded",
                "a normal map that was sRGB-encoded",
                _R.NORMAL,
                measured=f"its mean leans to ({mean[0]:.2f}, {mean[1]:.2f})",
                mend=_map(_R.NORMAL, transfer="srgb"),
            )
    if normals is not None and height is not None and height.size == normals.size and not bench.has(_R.HEIGHT, "looks encoded"):
        gain = m.encoding_gain(normals.values, height.values) if not height.is_encoded else 0
        if gain > 0.02:
            bench.tell(
                "fault",
                "looks encoded",
                "a height map that was sRGB-encoded",
                _R.HEIGHT,
                mend=_map(_R.HEIGHT, transfer="srgb"),
                measured=f"decoded, its slopes go with the normals' better by {gain:.3f} of correlation",
            )


def _normals(bench: _Bench) -> None:
    given = bench.maps.get(_R.NORMAL)
    if given is None or bench.has(_R.NORMAL, "constant", "looks encoded"):
        return
    if given.texels.shape[2] == 3:
        lengths = m.lengths_of(_raw(given))
        told = f"length {lengths.mean:.3f} on average, {lengths.lowest:.3f} to {lengths.highest:.3f} (1st to 99th percentile)"
        if lengths.inwards > 0.001:
            bench.tell(
                "fault",
                "inwards",
                "normals point into the surface",
                _R.NORMAL,
                mend=_map(_R.NORMAL, channel="rg"),
                measured=f"{100 * lengths.inwards:.1f} % of the texels",
            )
        elif abs(lengths.mean - 1) > 0.03 or lengths.lowest < 0.9 or lengths.highest > 1.1:
            bench.tell(
                "fault",
                "not unit",
                "normals are not of unit length",
                _R.NORMAL,
                measured=told,
                mend=_map(_R.NORMAL, channel="rg"),
            )
    _green(bench, given)


def _green(bench: _Bench, given: TextureMap) -> None:
    height = bench.maps.get(_R.HEIGHT)
    values = given.values
    turned = "up" if bench.source.sources[_R.NORMAL].is_green_down else "down"
    mend = _map(_R.NORMAL, green=turned)
    if height is not None and height.size == given.size and not bench.has(_R.HEIGHT, "constant"):
        u, v = m.agreement(values, height.values)
        told = f"slopes of normals and height correlate by {u:.2f} along u and {v:.2f} along v"
        if abs(u) > _BELONGS and abs(v) > _BELONGS:
            if u < 0:
                invert = not bench.source.sources[_R.HEIGHT].invert
                bench.tell(
                    "fault",
                    "height inverted",
                    "the height map is black where the normals say high",
                    _R.HEIGHT,
                    measured=told,
                    mend=_map(_R.HEIGHT, invert=invert),
                )
            if u * v < 0:
                bench.tell(
                    "fault",
                    "green",
                    f"green points {turned}, and is read as the other way",
                    _R.NORMAL,
                    measured=told,
                    mend=mend,
                )
            return
    share = m.curl_share(values)
    if share > _CURLED:
        bench.tell(
            "fault",
            "green",
            f"green points {turned}, and is read as the other way",
            _R.NORMAL,
            mend=mend,
            measured=f"its slopes have {share / (1 - share):.1f} times the curl that they have with green turned round",
        )


def _ranges(bench: _Bench) -> None:
    diffuse, specular = bench.maps.get(_R.DIFFUSE), bench.maps.get(_R.SPECULAR)
    if diffuse is not None and not bench.has(_R.DIFFUSE, "looks linear") and _R.METALLIC not in bench.maps:
        light = m.luminance(diffuse.values)
        outside, middle = m.share_outside(light, *_DIFFUSE), float(np.median(light))
        if outside > 0.2:
            dark = middle < 0.1
            words = "darker than charcoal: is it stored linear?" if dark else "brighter than fresh snow"
            bench.tell(
                "fault",
                "unreal colour",
                f"much of it is {words}",
                _R.DIFFUSE,
                mend=_map(_R.DIFFUSE, transfer="linear") if dark else "",
                measured=f"{100 * outside:.0f} % of it reflects less than {_DIFFUSE[0]:g} or more than {_DIFFUSE[1]:g}",
            )
    if specular is not None and not bench.has(_R.SPECULAR, "looks linear", "constant"):
        light = m.luminance(specular.values)
        between = float(((light > _SPECULAR_GAP[0]) & (light < _SPECULAR_GAP[1])).mean())
        if between > 0.25:
            file = bench.source.sources[_R.SPECULAR].file.name
            mend = _leave_out(file) if _R.ROUGHNESS in bench.maps else f'[[swatch.map]]\nfile = "{file}"\nrole = "shininess"\n'
            bench.tell(
                "fault",
                "unreal specular",
                "an intensity, not a reflectance: real surfaces reflect 0.02 to 0.08 head on, metals 0.45 and more",
                _R.SPECULAR,
                mend=mend,
                measured=f"{100 * between:.0f} % of it lies between {_SPECULAR_GAP[0]:g} and {_SPECULAR_GAP[1]:g}",
            )


def _heights(bench: _Bench) -> None:
    given = bench.maps.get(_R.HEIGHT)
    if given is None or given.texels.dtype != np.uint8 or bench.has(_R.HEIGHT, "constant") or max(given.size) <= _SMALL:
        return
    levels = len(np.unique(given.texels))
    if levels < _FEW_LEVELS:
        bench.tell(
            "fault",
            "stairs",
            "8-bit heights of few levels show stairs",
            _R.HEIGHT,
            measured=f"{levels} levels",
            mend=_map(_R.HEIGHT, smooth=True),
        )


def _alphas(bench: _Bench) -> None:
    for role, source in bench.source.sources.items():
        image = bench.images.get(source.file)
        if image is None or source.channel or "a" not in (name.lower() for name in image.channels):
            continue
        alpha = image.texels[..., [name.lower() for name in image.channels].index("a")]
        if (alpha == alpha.flat[0]).all():
            rest = "".join(name.lower() for name in image.channels if name.lower() != "a")
            bench.tell(
                "note",
                "empty alpha",
                "its alpha carries nothing",
                role,
                measured=f"{alpha.flat[0]} everywhere",
                mend=_map(role, channel=rest),
            )


def _sizes(bench: _Bench) -> None:
    sizes = {role: each.size for role, each in bench.maps.items() if max(each.size) > _SMALL}
    shapes = sorted({(w, h) for h, w in sizes.values()})
    if len(shapes) > 1:
        crooked = len({w / h for w, h in shapes}) > 1
        bench.tell(
            "fault" if crooked else "note",
            "sizes",
            "maps of different proportions cannot lie upon each other" if crooked else "its maps have different sizes",
            measured=", ".join(f"{w} x {h}" for w, h in shapes),
        )
    if any(h != w for h, w in sizes.values()) and bench.source.fit == "stretch":
        bench.tell(
            "note",
            "not square",
            "maps that are not square are stretched to a square",
            measured=", ".join(f"{w} x {h}" for w, h in shapes),
            mend='fit = "repeat"\n',
        )
    small = {role: max(size) for role, size in sizes.items() if max(size) < bench.texels}
    if small:
        largest = max(max(size) for size in sizes.values())
        bench.tell(
            "note",
            "enlarged",
            f"packing at {bench.texels} enlarges {', '.join(role.key for role in small)}",
            measured=f"{min(small.values())} texels along the longer side",
            mend=f"[arrays]\ntexels = {1 << (largest.bit_length() - 1)}\n" if largest < bench.texels else "",
        )


def _duplicates(bench: _Bench) -> None:
    seen: dict[tuple[Any, ...], MapRole] = {}
    for role in (each for each in MapRole if each in bench.maps):
        texels, file = bench.maps[role].texels, bench.source.sources[role].file
        key = (texels.shape, texels.dtype.str, fingerprint(np.ascontiguousarray(texels).tobytes()))
        other = seen.setdefault(key, role)
        alone = bench.source.sources[other].file != file
        if other is not role and alone and max(bench.maps[role].size) > _SMALL and not bench.has(role, "constant"):
            bench.tell(
                "fault",
                "same map twice",
                f"the {role.key} map holds the same texels as the {other.key} map",
                role,
                measured=f"every texel as in {bench.source.sources[other].file.name}",
                mend=_leave_out(file.name),
            )


def _seams(bench: _Bench) -> None:
    bench.seams = {role: m.seam_of(_seen(each)) for role, each in bench.maps.items() if max(each.size) > _SMALL}
    role = max(bench.seams, key=lambda each: bench.seams[each].worst, default=None)
    if role is not None and bench.seams[role].worst > SEAM_SEEN and bench.source.seams == "keep":
        seam = bench.seams[role]
        bench.tell(
            "fault",
            "seam",
            "its border shows when it repeats",
            role,
            mend='seams = "mirror"\n',
            measured=f"seam score {seam.sides:.2f} where left meets right, {seam.ends:.2f} where top meets bottom",
        )


_CHECKS: tuple[Callable[[_Bench], None], ...] = (
    _names,
    _constants,
    _encodings,
    _normals,
    _ranges,
    _heights,
    _alphas,
    _sizes,
    _duplicates,
    _seams,
)


def _map(role: MapRole, **keys: Any) -> str:
    lines = [
        f"{key} = {str(value).lower() if isinstance(value, bool) else chr(34) + str(value) + chr(34)}\n"
        for key, value in keys.items()
    ]
    return f'[[swatch.map]]\nrole = "{role.key}"\n' + "".join(lines)


def _leave_out(file: str) -> str:
    return f'[[swatch.map]]\nfile = "{file}"\nrole = "none"\n'


def _choice(message: str) -> str:
    """What the error for two files of one role says to write."""
    role, file = message.split('role = "')[1].split('"')[0], message.split('file = "')[1].split('"')[0]
    return f'[[swatch.map]]\nrole = "{role}"\nfile = "{file}"\n'


def _raw(given: TextureMap) -> m.Values:
    """Stored normals as vectors, before they are made unit."""
    if given.texels.dtype.kind == "f":
        return given.texels if float(given.texels.min()) < 0 else given.texels * 2 - 1
    return given.meanings[given.texels]


def _seen(given: TextureMap) -> m.Values:
    """A map as an eye sees it: stored numbers, 0..1."""
    if given.texels.dtype.kind == "u":
        return (given.texels / np.float32(np.iinfo(given.texels.dtype).max)).astype(np.float32)
    return np.asarray(given.texels, np.float32)
