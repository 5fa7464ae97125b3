"""A lit view of scenes through a camera: a ray for each pixel, and four where neighbours differ."""

from __future__ import annotations

from collections.abc import Collection, Sequence

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.blend.blend import Texels
from jagged_quilt.foundation.canvas import Block, go_over
from jagged_quilt.foundation.colour import srgb_from_linear
from jagged_quilt.foundation.work import ANYHOW, Work
from jagged_quilt.light.light import LitSurface, hazed
from jagged_quilt.light.sky import Sky
from jagged_quilt.light.sky_image import SkyImage
from jagged_quilt.maps.roles import BLENDED_ROLES, SHADED_ROLES, MapRole
from jagged_quilt.show.board import HEIGHT, WIDTH, Picture
from jagged_quilt.show.stage import Stage
from jagged_quilt.show.thumbnails import KnownCanvas, Reach, Thumbnails, free_of
from jagged_quilt.surfaces.camera import Camera
from jagged_quilt.surfaces.picture_canvas import PictureBlock, PictureCanvas

FINER = 2  # rays along each side of a pixel where it has several
RAYS_AT_ONCE = 40_000
CONTRAST = 30  # of 255: a pixel that differs so much from one beside it is looked at more closely
_LONE = 0.7  # of a pixel: how wide a ray that is alone is read, to be as sharp as the mean of four, half a pixel wide each
_HAZE = 2600 / 256  # times the size of what is seen: the metres after which two thirds of it is air
LIT_ROLES = tuple(role for role in BLENDED_ROLES if role is not MapRole.HEIGHT)
"""What a lit view is drawn from."""
_CUT = np.array([0.045, 0.040, 0.036], np.float32)  # what the ground shows where it is cut off


def draw_scenes(
    scenes: Sequence[Stage],
    camera: Camera,
    *,
    width: int = WIDTH,
    height: int = HEIGHT,
    without: Sequence[Collection[MapRole]] = (),
    closely: bool = False,
    thumbnails: Thumbnails | None = None,
    work: Work = ANYHOW,
) -> list[Picture]:
    """Return what a camera sees of some scenes that differ in nothing but their layers and arrays: their rays are cast once.

    Parameters
    ----------
    without : sequence of collections of MapRole
        For each, the roles of `LIT_ROLES` whose maps are left out; none where it is not given.
    closely : bool
        Four rays for every pixel.
    thumbnails : Thumbnails, optional
        Keeps what single rays met for the next drawing.
    """
    options = {"width": width, "height": height, "closely": closely, "work": work}
    uncut = [MapRole.OPACITY in roles for roles in without] or [False] * len(scenes)
    if len(scenes) > 1 and any(scene.has_holes for scene in scenes):  # each has rays of its own
        each = zip(scenes, list(without) or [()] * len(scenes), strict=True)
        return [draw_scenes([scene], camera, without=[roles], **options)[0] for scene, roles in each]  # type: ignore[arg-type]
    if uncut[0] and scenes[0].has_holes:
        scenes = [scenes[0].uncut()]
    if thumbnails is not None and scenes[0].has_holes:
        thumbnails = None
    if thumbnails is not None:
        thumbnails.turn_to(scenes[0], camera)
    left_out, lighting = list(without) or [()] * len(scenes), scenes[0].lighting
    reaches = [scenes[0].shadows(light) for light in lighting.lights]
    if not closely:
        once = light_along(
            scenes, left_out, scenes[0].canvas(camera, height, width, footprint=_LONE), reaches, work, thumbnails
        )
        shown = [np.rint(srgb_from_linear(light) * 255).reshape(height, width, 3).astype(np.uint8) for light in once]
    else:
        shown = [np.empty((height, width, 3), np.uint8) for _ in scenes]
    wanted = np.ones((height, width), bool) if closely else np.any([contrast(each) > CONTRAST for each in shown], axis=0)
    if wanted.any():
        only = wanted.repeat(FINER, axis=0).repeat(FINER, axis=1)
        canvas = scenes[0].canvas(camera, height * FINER, width * FINER, only=only)
        for picture, light in zip(shown, light_along(scenes, left_out, canvas, reaches, work), strict=True):
            fine = light.reshape(height, FINER, width, FINER, 3)
            rays = [fine[:, down, :, across][wanted] for down in range(FINER) for across in range(FINER)]
            mean = np.sum(rays, axis=0) / np.float32(len(rays))
            picture[wanted] = np.rint(srgb_from_linear(mean) * 255)
    return shown


def contrast(picture: Picture) -> NDArray[np.int16]:
    """Return by how much each pixel differs from the four beside it, at most, (H, W)."""
    values = picture.astype(np.int16)
    out = np.zeros(picture.shape[:2], np.int16)
    for axis in (0, 1):
        steps = np.abs(np.diff(values, axis=axis))
        apart = np.maximum(np.maximum(steps[..., 0], steps[..., 1]), steps[..., 2])
        for part in (slice(1, None), slice(None, -1)):
            side = out[part] if axis == 0 else out[:, part]
            np.maximum(side, apart, out=side)
    return out


def light_along(
    scenes: Sequence[Stage],
    left_out: Sequence[Collection[MapRole]],
    canvas: PictureCanvas,
    reaches: Sequence[Reach],
    work: Work,
    thumbnails: Thumbnails | None = None,
) -> list[NDArray[np.float32]]:
    """The light that comes along every ray of a canvas, for each scene, as a screen shows it, (rows * columns, 3)."""
    scene = scenes[0]
    rows, columns = canvas.texels
    out = [np.zeros((rows * columns, 3), np.float32) for _ in scenes]
    parts = [each.parts for each in scenes]
    lighting, haze = scene.lighting, haze_of(scene)

    def look(block: Block) -> None:
        assert isinstance(block, PictureBlock)
        if not len(block.pixels):
            return
        air = seen_behind(block, lighting.sky, haze)
        lights = [air, *(air.copy() for _ in scenes[1:])]
        lit_by = free_of(block, reaches) if thumbnails is None else thumbnails.free(canvas, block, reaches)
        for own, piece, free in zip(block.rows_of, block.pieces, lit_by, strict=True):
            points, seen = piece.points, block.rays[own]
            positions = points.world
            away = np.linalg.norm(positions - camera_at, axis=1)
            for own_parts, roles, light in zip(parts, left_out, lights, strict=True):
                part = own_parts[piece.part]
                texels = part.shade.at(points, normals="world", eye=canvas.camera.position)
                surface = lit_surface(texels, points.normal, -seen, roles, open_sky=part.open_sky(points))
                shade = lighting.leaving(surface, positions, free)
                light[own] = hazed(shade, away, haze, lighting.sky)
        for target, light in zip(out, lights, strict=True):
            target[block.pixels] = lighting.shown(light)

    camera_at = canvas.camera.position
    of = canvas if thumbnails is None else KnownCanvas(canvas, thumbnails)
    go_over(of, look, most=RAYS_AT_ONCE, work=work, step="drawing the view")
    return out


def haze_of(scene: Stage) -> float:
    """Metres after which two thirds of what is seen of a scene is air."""
    return scene.haze or _HAZE * scene.size or np.inf


def seen_behind(block: PictureBlock, sky: Sky | SkyImage, haze: float) -> NDArray[np.float32]:
    """Return the light of every ray of a block before anything is met: the sky, and the sides of ground that is cut off."""
    air = sky.seen(np.maximum(block.rays, np.array([-1, 0, -1], np.float32)))  # below the horizon only haze
    cut = block.cut >= 0
    air[cut] = hazed(np.broadcast_to(_CUT, (int(cut.sum()), 3)), block.cut[cut], haze, sky)
    return air


def lit_surface(
    texels: Texels,
    normal: NDArray[np.float32],
    eye: NDArray[np.float32],
    without: Collection[MapRole] = (),
    *,
    open_sky: NDArray[np.float32] | None = None,
) -> LitSurface:
    """Return what a blend answers as light falls on it; some maps left out: their neutral value, and the surface's `normal`.

    open_sky : (N,), how much of the sky the ground leaves open, which is counted with the occlusion.
    """
    left_out = [role for role in without if role in texels]
    if not left_out and open_sky is None:
        return surface_of(texels, eye)
    plain = Texels(texels.values.copy())
    for role in left_out:
        plain[role][...] = normal if role.value.direction else np.array(role.value.neutral, np.float32)
    if open_sky is not None:
        plain[MapRole.OCCLUSION][...] *= open_sky
    return surface_of(plain, eye)


def surface_of(texels: Texels, eye: NDArray[np.float32]) -> LitSurface:
    """Return texels with normals in the world as light falls on them."""
    columns = [column for role in SHADED_ROLES if role in texels for column in texels.columns(role)]
    as_it_is = columns == list(range(texels.values.shape[1]))  # unless there are others
    return LitSurface(texels.values if as_it_is else np.ascontiguousarray(texels.values[:, columns]), eye)
