"""Shader source run on whatever OpenGL driver is there: a value for each point, from functions of `BlendShader`."""

import ctypes
import os
import time
from dataclasses import replace

os.environ.setdefault("GALLIVM_PERF", "no_aos_sampling")  # or a software driver filters in eight bits

import numpy as np

ARRAY, RGBA8, SRGB8, RGBA, BYTES, TEXTURE0 = 0x8C1A, 0x8058, 0x8C43, 0x1908, 0x1401, 0x84C0
FLOATS, FLOAT = 0x8814, 0x1406
MIN, MAG, NEAREST, LINEAR, LINEAR_MIPS = 0x2801, 0x2800, 0x2600, 0x2601, 0x2703
_VERTEX = "in vec2 corner; void main() { gl_Position = vec4(corner, 0.0, 1.0); }"
_HEADS = {"glsl": "#version 330 core\n", "essl": "#version 300 es\nprecision highp float;\n"}


def gl(name, *given):
    """Call what moderngl has no name for."""
    found = ctypes.CDLL("libEGL.so.1").eglGetProcAddress
    found.restype = ctypes.c_void_p
    ctypes.CFUNCTYPE(None)(found(b"glFlush"))  # a context is there
    address = found(f"gl{name}".encode())
    kinds = [ctypes.c_void_p if isinstance(each, ctypes.c_void_p) or hasattr(each, "_obj") else ctypes.c_int for each in given]
    ctypes.CFUNCTYPE(None, *kinds)(address)(
        *(ctypes.cast(each, ctypes.c_void_p) if hasattr(each, "_obj") else each for each in given)
    )


class Device:
    """An OpenGL context without a window; `why_not` says why there is none."""

    def __init__(self):
        self.context, self.why_not = None, ""
        try:
            import moderngl

            self.context = moderngl.create_context(standalone=True, backend="egl", require=330)
        except Exception as error:  # whatever a machine lacks
            self.why_not = f"no OpenGL driver: {type(error).__name__}: {error}"

    def array_of(self, arrays, name, exact):
        """A texture array with its mips, as its file holds it, by its number: as stored, or as the sampler is to read it."""
        number = [each.name for each in arrays.layouts].index(name)
        layout, store, count = arrays.layouts[number], arrays.stores[number], arrays.slice_count(name)
        made = ctypes.c_uint()
        gl("GenTextures", 1, ctypes.byref(made))
        gl("BindTexture", ARRAY, made.value)
        side, levels = arrays.side, []
        for level in range(arrays.side.bit_length()):
            levels.append(self.filled(np.stack([store.texels(level, which) for which in range(count)])))
        floats = levels[0].dtype != np.uint8
        if exact:  # mips as further slices
            slices = np.zeros((len(levels) * count, side, side, 4), levels[0].dtype)
            for level, texels in enumerate(levels):
                slices[level * count : (level + 1) * count, : texels.shape[1], : texels.shape[2]] = texels
            levels, count = [slices], len(slices)
        stored = FLOATS if floats else SRGB8 if layout.srgb and not exact else RGBA8
        gl("TexStorage3D", ARRAY, len(levels), stored, side, side, count)
        for level, texels in enumerate(levels):
            rows, columns = texels.shape[1:3]
            data, kind = np.ascontiguousarray(texels), FLOAT if floats else BYTES
            gl("TexSubImage3D", ARRAY, level, 0, 0, 0, columns, rows, count, RGBA, kind, data.ctypes.data_as(ctypes.c_void_p))
        for what, how in ((MIN, NEAREST if exact else LINEAR_MIPS), (MAG, NEAREST if exact else LINEAR)):
            gl("TexParameteri", ARRAY, what, how)
        return made.value

    @staticmethod
    def filled(texels):
        """Four channels, the last of them white where there are three."""
        if texels.dtype != np.uint8:
            texels = texels.astype(np.float32) / (65535 if texels.dtype == np.uint16 else 1)
        white = np.full((*texels.shape[:-1], 4 - texels.shape[-1]), 255 if texels.dtype == np.uint8 else 1, texels.dtype)
        return np.concatenate([texels, white], axis=-1)

    def blended(
        self, shader, arrays, points, weights, amounts=None, dialect="glsl", exact=True, columns=0, times=1, eye=(0, 0, 0)
    ):
        """What a blend shader says at points: a dict of what it calls its outputs to (N, C) float32.

        `columns` lays the points out as rows of a picture; `times` draws it so often, and `seconds` then tells how long each
        took; `eye` is where the camera stands.
        """
        columns = columns or len(points)
        rows = len(points) // columns
        outputs, given, main, at_once = _asked(shader, points, weights, amounts, rows)
        vertex = _HEADS[dialect] + _VERTEX
        program = self.context.program(vertex, shader.source + "\n".join([*main, "}"]) + "\n")
        if "eye" in program:
            program["eye"].value = tuple(map(float, eye))
        kept, unit, own = [], 0, {}
        for name, array in ((own, array) for own, array in zip(shader.samplers, shader.arrays, strict=True) if own in program):
            own[unit] = self.array_of(arrays, array, exact)
            program[name].value = unit
            unit += 1
        for name, values in given.items():
            four = np.zeros((len(points), 4), np.float32)
            four[:, : values.shape[1]] = values
            texture = self.context.texture((columns, rows), 4, four.tobytes(), dtype="f4")
            texture.filter = (0x2600, 0x2600)
            kept.append(texture)
            unit = self.use(program, f"given_{name}", texture, unit)
        block = self.context.buffer(shader.block)
        block.bind_to_uniform_block(0)
        program["Blend"].binding = 0
        sizes = [(columns, rows)] * len(outputs) if at_once else [(columns, rows * len(outputs))]
        targets = [self.context.texture(size, 4, dtype="f4") for size in sizes]
        frame = self.context.framebuffer(targets)
        frame.use()
        for number, texture in own.items():
            gl("ActiveTexture", TEXTURE0 + number)
            gl("BindTexture", ARRAY, texture)
        corners = self.context.buffer(np.array([[-1, -1], [3, -1], [-1, 3]], np.float32).tobytes())
        whole, self.seconds = self.context.vertex_array(program, [(corners, "2f", "corner")]), []
        for _ in range(times):
            began = time.perf_counter()
            whole.render()
            self.context.finish()
            frame.read(viewport=(0, 0, 1, 1), components=4, dtype="f4")  # or a driver may still be at it
            self.seconds.append(time.perf_counter() - began)
        out = {}
        told = np.concatenate([np.frombuffer(each.read(), np.float32) for each in targets]).reshape(len(outputs), -1, 4)
        for (kind, name), values in zip(outputs, told, strict=True):
            out[name] = values[:, : 3 if kind == "vec3" else 1].copy()
        for each in (*kept, *targets, frame, block, corners):
            each.release()
        return out

    def weights(self, shader, sheets, uv):
        """What `weights_at` says at places of the ground, (N, L), of sheets by their names: (H, W, C) uint8."""
        count = len(shader.layers)
        main = ["uniform sampler2D given_uv;", "out vec4 told;", "void main() {", f"    float weight[{count}];"]
        main += ["    weights_at(texelFetch(given_uv, ivec2(int(gl_FragCoord.x), 0), 0).xy, weight);"]
        main += [f"    if (int(gl_FragCoord.y) == {n}) told = vec4(weight[{n}]);" for n in range(count)]
        program = self.context.program(_HEADS["glsl"] + _VERTEX, shader.source + "\n".join([*main, "}"]) + "\n")
        four, unit, kept = np.zeros((1, len(uv), 4), np.float32), 0, []
        four[0, :, :2] = uv
        textures = {"given_uv": self.context.texture((len(uv), 1), 4, four.tobytes(), dtype="f4")}
        for name, texels in sheets.items():
            textures[name] = self.context.texture(texels.shape[1::-1], 4, self.filled(texels).tobytes())
            textures[name].repeat_x = textures[name].repeat_y = False
        textures["given_uv"].filter = (NEAREST, NEAREST)
        for name, texture in textures.items():
            unit = self.use(program, name, texture, unit)
            kept.append(texture)
        target = self.context.texture((len(uv), count), 4, dtype="f4")
        self.context.framebuffer([target]).use()
        corners = self.context.buffer(np.array([[-1, -1], [3, -1], [-1, 3]], np.float32).tobytes())
        self.context.vertex_array(program, [(corners, "2f", "corner")]).render()
        return np.frombuffer(target.read(), np.float32).reshape(count, -1, 4)[..., 0].T

    def lit(self, shader, given, free, dialect="glsl"):
        """The light that leaves points, (N, 3): `given` by the members of `Lit`, with "place" and "to_eye"; `free` (N, L)."""
        count, lamps = len(free), free.shape[1]
        given = {**given, **{f"free_{n}": free[:, n : n + 1] for n in range(lamps)}}
        main = [f"uniform sampler2D given_{name};" for name in given]
        main += ["out vec4 told;", "void main() {", "    ivec2 at = ivec2(int(gl_FragCoord.x), 0);", "    Lit lit;"]
        parts = {1: "x", 3: "xyz"}
        for name, values in given.items():
            own = f"texelFetch(given_{name}, at, 0).{parts[values.shape[1]]}"
            if name.startswith("free_"):
                continue
            kind = "float" if values.shape[1] == 1 else "vec3"
            main.append(f"    {kind} {name} = {own};" if name in ("place", "to_eye") else f"    lit.{name} = {own};")
        main += [f"    float free[{lamps}];"]
        main += [f"    free[{n}] = texelFetch(given_free_{n}, at, 0).x;" for n in range(lamps)]
        main += ["    told = vec4(light_of(lit, place, to_eye, free), 1.0);", "}"]
        source = _HEADS[dialect] + "precision highp sampler2D;\n" * (dialect == "essl") + shader.source + "\n".join(main) + "\n"
        program = self.context.program(_HEADS[dialect] + _VERTEX, source)
        unit, kept = 0, []
        for name, values in {**{f"given_{key}": each[None] for key, each in given.items()}, **shader.tables}.items():
            four = np.zeros((*values.shape[:2], 4), np.float32)
            four[..., : values.shape[2]] = values
            kept.append(self.context.texture(four.shape[1::-1], 4, four.tobytes(), dtype="f4"))
            kept[-1].filter = (NEAREST, NEAREST)
            unit = self.use(program, name, kept[-1], unit)
        self.context.buffer(shader.block).bind_to_uniform_block(0)
        program["Lights"].binding = 0
        target = self.context.texture((count, 1), 4, dtype="f4")
        self.context.framebuffer([target]).use()
        corners = self.context.buffer(np.array([[-1, -1], [3, -1], [-1, 3]], np.float32).tobytes())
        self.context.vertex_array(program, [(corners, "2f", "corner")]).render()
        return np.frombuffer(target.read(), np.float32).reshape(-1, 4)[:, :3]

    @staticmethod
    def use(program, name, texture, unit):
        """Bind a texture where a program reads it, if it does; return the next free unit."""
        if name in program:
            texture.use(unit)
            program[name].value = unit
            return unit + 1
        return unit


def _asked(shader, points, weights, amounts, rows):
    """The outputs of a blend shader, the values that it is given, the lines of a program that asks it for them, and whether all
    outputs are drawn at once."""
    outputs = [line.split() for line in shader.source.partition("struct Blended {")[2].partition("}")[0].splitlines() if line]
    outputs = [(kind, name.strip(";")) for kind, name in outputs]
    dense = np.zeros((len(points), -(-len(shader.layers) // 4) * 4), np.float32)
    for column in range(weights.layers.shape[1]):
        np.add.at(dense, (np.arange(len(points)), weights.layers[:, column].astype(int)), weights.weights[:, column])
    given = {
        "position": points.position,
        "normal": points.normal,
        "step_x": points.steps[:, 0],
        "step_y": points.steps[:, 1],
    }
    if "vec3 along_u;" in shader.source:
        given |= {"uv": points.uv, "along_u": points.uv_gradient[:, 0], "along_v": points.uv_gradient[:, 1]}
    if "vec3 way_u;" in shader.source:
        tangent = points.tangent[:, :3]
        given |= {"way_u": tangent, "way_v": -np.cross(points.normal, tangent) * points.tangent[:, 3:]}
    given |= {f"weights_{n}": dense[:, 4 * n : 4 * n + 4] for n in range(dense.shape[1] // 4)}
    if amounts is not None:
        given |= {"amounts": amounts}
    main = [f"uniform sampler2D given_{name};" for name in given]
    at_once = len(outputs) <= 8  # what every driver draws into at once; else one below the other
    main += [f"layout(location = {n}) out vec4 out_{name};" for n, (_, name) in enumerate(outputs) if at_once]
    main += [] if at_once else ["out vec4 told;"]
    main += [
        "void main() {",
        f"    ivec2 at = ivec2(int(gl_FragCoord.x), int(gl_FragCoord.y) % {rows});",
        "    Point point;",
    ]
    kinds = {2: "xy", 3: "xyz"}
    main += [
        f"    point.{name} = texelFetch(given_{name}, at, 0).{kinds[values.shape[1]]};"
        for name, values in given.items()
        if "weights" not in name and name != "amounts"
    ]
    main += [f"    float weight[{len(shader.layers)}];"]
    main += [f"    weight[{n}] = texelFetch(given_weights_{n // 4}, at, 0).{'rgba'[n % 4]};" for n in range(len(shader.layers))]
    if amounts is not None:
        main += ["    float film[FILMS];"]
        main += [f"    film[{n}] = texelFetch(given_amounts, at, 0).{'rgba'[n]};" for n in range(amounts.shape[1])]
    main += [f"    Blended blended = blend(point, weight{'' if amounts is None else ', film'});"]
    wide = lambda kind, name: f"vec4(blended.{name}{'' if kind == 'vec3' else ', 0, 0'}, 0)"
    for row, (kind, name) in enumerate(outputs):
        where = f"out_{name} =" if at_once else f"if (int(gl_FragCoord.y) / {rows} == {row}) told ="
        main.append(f"    {where} {wide(kind, name)};")
    return outputs, given, main, at_once


def steps_of(points):
    """The points with the footprint's sides along tangent and bitangent as their steps."""
    across = np.cross(points.normal, points.tangent[:, :3])
    steps = points.footprint[:, :, None] * np.stack([points.tangent[:, :3], across], axis=1)
    return replace(points, steps=steps.astype(np.float32))


def ground_picture(device, shader, arrays, quilt, weights, amounts, size=(1280, 800)):
    """The ground as the exported program draws it, with the camera and the first sun of a quilt: (H, W, 3) uint8."""
    context, camera, ground = device.context, quilt.camera, quilt.terrain
    program = context.program(shader.vertex, shader.fragment)
    ahead, right, up = camera.axes()
    eye, half = np.array(camera.position), np.tan(np.radians(camera.view_angle) / 2)
    near, far = 1.0, 4000.0
    look = np.eye(4)
    look[:3, :3] = np.stack([right, up, -np.asarray(ahead)])
    look[:3, 3] = -look[:3, :3] @ eye
    lens = np.zeros((4, 4))
    lens[0, 0], lens[1, 1] = size[1] / size[0] / half, 1 / half
    lens[2, 2:], lens[3, 2] = ((far + near) / (near - far), 2 * far * near / (near - far)), -1
    light = next(each for each in quilt.lighting.lights if hasattr(each, "bearing"))
    turn, rise = np.radians(light.bearing), np.radians(light.height)
    said = {
        "to_clip": (lens @ look).T.astype("f4").tobytes(),
        "ground_size": np.array(ground.size, "f4").tobytes(),
        "to_sun": np.array([np.sin(turn) * np.cos(rise), np.sin(rise), -np.cos(turn) * np.cos(rise)], "f4").tobytes(),
        "sun": np.full(3, 0.9, "f4").tobytes(),
        "sky": np.array([0.25, 0.3, 0.38], "f4").tobytes(),
    }
    said["eye"] = eye.astype("f4").tobytes()
    for name, data in said.items():
        if name in program:
            program[name].write(data)
    unit, bound, kept = 0, {}, []
    for name, array in ((own, array) for own, array in zip(shader.samplers, shader.arrays, strict=True) if own in program):
        bound[unit] = device.array_of(arrays, array, False)
        program[name].value = unit
        unit += 1
    rows, columns = weights.layers.shape[:2]
    dense = np.zeros((rows, columns, -(-len(shader.layers) // 4) * 4), np.uint8)
    for place in range(weights.layers.shape[2]):
        r, c = np.mgrid[:rows, :columns]
        dense[r, c, weights.layers[..., place]] += weights.weights[..., place]
    sheets = {f"splat_{n}": dense[..., 4 * n : 4 * n + 4] for n in range(dense.shape[2] // 4)}
    sheets |= {f"film_{n}": np.repeat(each[..., None], 4, axis=2) for n, each in enumerate(amounts)}
    for name, texels in sheets.items():
        texture = context.texture(texels.shape[1::-1], 4, np.ascontiguousarray(texels).tobytes())
        texture.repeat_x = texture.repeat_y = False
        kept.append(texture)
        unit = device.use(program, name, texture, unit)
    context.buffer(shader.block).bind_to_uniform_block(0)
    program["Blend"].binding = 0
    for number, texture in bound.items():
        gl("ActiveTexture", TEXTURE0 + number)
        gl("BindTexture", ARRAY, texture)
    points = ground.points((513, 513))
    grid = np.arange(513 * 513).reshape(513, 513)
    a, b, c, d = grid[:-1, :-1], grid[:-1, 1:], grid[1:, :-1], grid[1:, 1:]
    corners = np.concatenate([np.stack([a, c, b], 2).reshape(-1, 3), np.stack([b, c, d], 2).reshape(-1, 3)]).astype("i4")
    buffers = [context.buffer(np.ascontiguousarray(each, "f4").tobytes()) for each in (points.position, points.normal)]
    order = context.buffer(corners.tobytes())
    target = context.texture(size, 4)
    frame = context.framebuffer([target], context.depth_renderbuffer(size))
    frame.use()
    frame.clear(0.72, 0.78, 0.84)
    context.enable(context.DEPTH_TEST)
    mesh = [(buffers[0], "3f", "position"), (buffers[1], "3f", "normal")]
    context.vertex_array(program, mesh, index_buffer=order).render()
    context.disable(context.DEPTH_TEST)
    return np.frombuffer(frame.read(components=3), np.uint8).reshape(size[1], size[0], 3)[::-1].copy()
