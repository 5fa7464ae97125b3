"""Shader source run on whatever OpenGL driver is there: a value for each point, from functions of `BlendShader`."""

import numpy as np

import jagged_quilt as jq
from jagged_quilt.export.driver import Driver, of_four
from jagged_quilt.export.shader_blend import ShaderBlend

NEAREST = 0x2600
_VERTEX = "in vec2 corner; void main() { gl_Position = vec4(corner, 0.0, 1.0); }"
_HEADS = {"glsl": "#version 330 core\n", "essl": "#version 300 es\nprecision highp float;\n"}


class Device:
    """An OpenGL context without a window; `why_not` says why there is none."""

    def __init__(self):
        self.driver, self.context, self.why_not = None, None, ""
        try:
            self.driver = Driver()
            self.context = self.driver.context
        except jq.QuiltError as error:
            self.why_not = str(error)

    def blended(self, shader, arrays, points, weights, films=(), dialect="glsl", exact=True, eye=(0, 0, 0)):
        """What a blend shader says at points: a dict of what it calls its outputs to (N, C) float32; `eye` is where the camera
        stands."""
        blend = ShaderBlend(self.driver, shader, arrays, films=films, dialect=dialect, exact=exact)
        found = blend.read(blend.drawn(points, weights, eye=eye))
        blend.release()
        return found

    def weights(self, shader, sheets, points):
        """What `weights_at` says at points of the ground, (N, L), of sheets by their names: (H, W, C) uint8, or floats."""
        count, uv, is_live = len(shader.layers), points.uv, "weights_at(Point" in shader.source
        main = [
            "uniform sampler2D given;",
            "out vec4 told;",
            "void main() {",
            f"    float weight[{count}];",
            "    Point point;",
        ]
        main += ["    int at = int(gl_FragCoord.x);", "    vec2 uv = texelFetch(given, ivec2(at, 0), 0).xy;"]
        main += ["    point.position = texelFetch(given, ivec2(at, 1), 0).xyz;"]
        main += ["    point.normal = texelFetch(given, ivec2(at, 2), 0).xyz;"]
        main += [f"    weights_at({'point, ' if is_live else ''}uv, weight);"]
        main += [f"    if (int(gl_FragCoord.y) == {n}) told = vec4(weight[{n}]);" for n in range(count)]
        program = self.context.program(_HEADS["glsl"] + _VERTEX, shader.source + "\n".join([*main, "}"]) + "\n")
        four, unit, kept = np.zeros((3, len(uv), 4), np.float32), 0, []
        four[0, :, :2], four[1, :, :3], four[2, :, :3] = uv, points.position, points.normal
        textures = {"given": self.context.texture((len(uv), 3), 4, four.tobytes(), dtype="f4")}
        for name, texels in sheets.items():
            data, kind = of_four(texels), "f4" if texels.dtype == np.float32 else "f1"
            textures[name] = self.context.texture(texels.shape[1::-1], 4, data.tobytes(), dtype=kind)
            textures[name].repeat_x = textures[name].repeat_y = False
        textures["given"].filter = (NEAREST, NEAREST)
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
        bound[unit] = device.driver.texture_array(arrays, array, exact=False)
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
        device.driver.bind_array(number, texture)
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
