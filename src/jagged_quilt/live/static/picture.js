// Draws what the eye sees: shadow maps, the sky, meshes and the ground for the left and the right, and both beside each other.

import { patchMesh } from "./ground.js";
import { inBox, lookingAt, sees, times } from "./matrices.js";
import { compiled } from "./programs.js";

const SHADOW = 2048, AMPLIFIED = 8;
const ACROSS = ["#version 300 es\nout vec2 uv;\nvoid main() { vec2 at = vec2(gl_VertexID == 1 ? 3.0 : -1.0, gl_VertexID == 2 ? 3.0 : -1.0); uv = 0.5 + 0.5 * at; gl_Position = vec4(at, 0.0, 1.0); }\n",
  `#version 300 es
precision highp float;
uniform sampler2D left, right;
uniform float line;
uniform int differ;
in vec2 uv;
out vec4 seen;
void main() {
  vec4 one = texture(left, uv), other = texture(right, uv);
  seen = uv.x < line ? one : other;
  if (differ == 1) seen = vec4(abs(one.rgb - other.rgb) * ${AMPLIFIED}.0, 1.0);
}
`];

export class Picture {
  constructor(canvas) {
    const gl = this.gl = canvas.getContext("webgl2", { antialias: false, alpha: false, preserveDrawingBuffer: true, powerPreference: "high-performance" });
    if (!gl) throw new Error("this browser has no WebGL 2");
    this.canvas = canvas;
    this.restore();
  }

  restore() {
    const gl = this.gl;
    gl.getExtension("EXT_color_buffer_float");
    this.across = compiled(gl, ACROSS);
    this.mesh = patchMesh();
    this.vertices = gl.createVertexArray();
    gl.bindVertexArray(this.vertices);
    gl.bindBuffer(gl.ARRAY_BUFFER, gl.createBuffer());
    gl.bufferData(gl.ARRAY_BUFFER, this.mesh.corners, gl.STATIC_DRAW);
    gl.enableVertexAttribArray(0);
    gl.vertexAttribPointer(0, 3, gl.FLOAT, false, 0, 0);
    gl.bindBuffer(gl.ELEMENT_ARRAY_BUFFER, gl.createBuffer());
    gl.bufferData(gl.ELEMENT_ARRAY_BUFFER, this.mesh.triangles, gl.STATIC_DRAW);
    this.instances = gl.createBuffer();
    gl.bindBuffer(gl.ARRAY_BUFFER, this.instances);
    gl.enableVertexAttribArray(1);
    gl.vertexAttribPointer(1, 4, gl.FLOAT, false, 0, 0);
    gl.vertexAttribDivisor(1, 1);
    gl.bindVertexArray(null);
    this.shadows = []; this.shadowTargets = [];
    for (let which = 0; which < 2; ++which) {
      const texture = gl.createTexture(), target = gl.createFramebuffer();
      gl.bindTexture(gl.TEXTURE_2D, texture);
      gl.texStorage2D(gl.TEXTURE_2D, 1, gl.DEPTH_COMPONENT32F, SHADOW, SHADOW);
      gl.texParameteri(gl.TEXTURE_2D, gl.TEXTURE_COMPARE_MODE, gl.COMPARE_REF_TO_TEXTURE);
      for (const filter of [gl.TEXTURE_MIN_FILTER, gl.TEXTURE_MAG_FILTER]) gl.texParameteri(gl.TEXTURE_2D, filter, gl.LINEAR);
      gl.bindFramebuffer(gl.FRAMEBUFFER, target);
      gl.framebufferTexture2D(gl.FRAMEBUFFER, gl.DEPTH_ATTACHMENT, gl.TEXTURE_2D, texture, 0);
      this.shadows.push(texture); this.shadowTargets.push(target);
    }
    this.shadowOf = [null, null];
    this.targets = [null, null];
    this.size = [0, 0];
  }

  // Two targets with several samples a pixel, and the textures that they are resolved to.
  sized(width, height, samples) {
    const gl = this.gl;
    if (this.size.join() === [width, height, samples].join()) return;
    this.size = [width, height, samples];
    for (const each of this.targets) if (each) { gl.deleteFramebuffer(each.many); gl.deleteFramebuffer(each.one); gl.deleteTexture(each.texture); each.kept.forEach((own) => gl.deleteRenderbuffer(own)); }
    this.targets = [0, 1].map(() => {
      const many = gl.createFramebuffer(), one = gl.createFramebuffer(), texture = gl.createTexture(), kept = [];
      gl.bindFramebuffer(gl.FRAMEBUFFER, many);
      for (const [point, form] of [[gl.COLOR_ATTACHMENT0, gl.RGBA8], [gl.DEPTH_ATTACHMENT, gl.DEPTH_COMPONENT24]]) {
        const own = gl.createRenderbuffer();
        gl.bindRenderbuffer(gl.RENDERBUFFER, own);
        gl.renderbufferStorageMultisample(gl.RENDERBUFFER, samples, form, width, height);
        gl.framebufferRenderbuffer(gl.FRAMEBUFFER, point, gl.RENDERBUFFER, own);
        kept.push(own);
      }
      gl.bindTexture(gl.TEXTURE_2D, texture);
      gl.texStorage2D(gl.TEXTURE_2D, 1, gl.RGBA8, width, height);
      gl.texParameteri(gl.TEXTURE_2D, gl.TEXTURE_MIN_FILTER, gl.LINEAR);
      gl.texParameteri(gl.TEXTURE_2D, gl.TEXTURE_WRAP_S, gl.CLAMP_TO_EDGE);
      gl.texParameteri(gl.TEXTURE_2D, gl.TEXTURE_WRAP_T, gl.CLAMP_TO_EDGE);
      gl.bindFramebuffer(gl.FRAMEBUFFER, one);
      gl.framebufferTexture2D(gl.FRAMEBUFFER, gl.COLOR_ATTACHMENT0, gl.TEXTURE_2D, texture, 0);
      return { many, one, texture, kept };
    });
  }

  // left may be null: then the right is all there is. `part` of the size does while something moves; of a whole picture one
  // strip of several may be drawn, so that the hand is not kept waiting.
  draw({ left, right, line, differ, camera, part = 1, strip = 0, strips = 1, fast = true }) {
    const gl = this.gl, scale = part * Math.min(window.devicePixelRatio || 1, 2);
    const width = Math.max(1, Math.round(this.canvas.clientWidth * scale)), height = Math.max(1, Math.round(this.canvas.clientHeight * scale));
    if (this.canvas.width !== width || this.canvas.height !== height) { this.canvas.width = width; this.canvas.height = height; }
    this.sized(width, height, fast ? Math.min(4, gl.getParameter(gl.MAX_SAMPLES)) : 0);
    this.fine = fast || part === 1 ? 1 : 0.15;  // how fine patches are: small triangles cost a slow driver most
    const top = Math.floor(height * strip / strips), rows = Math.floor(height * (strip + 1) / strips) - top;
    this.drawSide(0, right, camera, top, rows);
    if (left) this.drawSide(1, left, camera, top, rows);
    gl.bindFramebuffer(gl.FRAMEBUFFER, null);
    gl.viewport(0, 0, width, height);
    gl.disable(gl.DEPTH_TEST);
    gl.useProgram(this.across.program);
    this.bind(0, gl.TEXTURE_2D, this.targets[left ? 1 : 0].texture, this.across.at("left"));
    this.bind(1, gl.TEXTURE_2D, this.targets[0].texture, this.across.at("right"));
    gl.uniform1f(this.across.at("line"), left ? line : 0);
    gl.uniform1i(this.across.at("differ"), left && differ ? 1 : 0);
    gl.drawArrays(gl.TRIANGLES, 0, 3);
  }

  bind(unit, kind, texture, at) {
    if (at === null) return;
    this.gl.activeTexture(this.gl.TEXTURE0 + unit);
    this.gl.bindTexture(kind, texture);
    this.gl.uniform1i(at, unit);
  }

  patchesOf(patches) {
    const gl = this.gl;
    gl.bindVertexArray(this.vertices);
    gl.bindBuffer(gl.ARRAY_BUFFER, this.instances);
    gl.bufferData(gl.ARRAY_BUFFER, patches, gl.DYNAMIC_DRAW);
    gl.drawElementsInstanced(gl.TRIANGLES, this.mesh.triangles.length, gl.UNSIGNED_SHORT, 0, patches.length / 4);
    gl.bindVertexArray(null);
  }

  // The sun's own pictures of how far its light reaches: of all of the ground, and, finer, of what lies around what is looked at.
  castShadows(side, camera) {
    const { size, heights } = side.state.ground, of = `${side.state.data.heights.stamp} ${side.stamps} ${side.toSun}`;
    const low = [0, heights[0], 0], high = [size[0], heights[1], size[1]];
    for (const { shape } of side.pieces) for (let k = 0; k < 3; ++k) { low[k] = Math.min(low[k], shape.low[k]); high[k] = Math.max(high[k], shape.high[k]); }
    const reach = 1.5 ** Math.ceil(Math.log(0.8 * camera.far) / Math.log(1.5)), grid = reach / 4;  // steps, so that it is not drawn for every move
    const middle = camera.target.map((each) => Math.round(each / grid) * grid);
    side.toShadow = this.castOne(0, of, side, low, high, low, high);
    side.toNear = this.castOne(1, `${of} ${middle} ${reach}`, side, middle.map((each) => each - reach), middle.map((each) => each + reach), low, high);
  }

  // One of them: of a box, with all of what stands between it and the sun.
  castOne(which, key, side, low, high, lowest, highest) {
    const gl = this.gl, centre = low.map((each, k) => (each + high[k]) / 2), view = lookingAt(centre.map((each, k) => each + side.toSun[k]), centre);
    const spans = (from, to) => {
      const out = [[Infinity, Infinity, Infinity], [-Infinity, -Infinity, -Infinity]];
      for (const x of [from[0], to[0]]) for (const y of [from[1], to[1]]) for (const z of [from[2], to[2]])
        for (let row = 0; row < 3; ++row) {
          const at = view[row] * x + view[4 + row] * y + view[8 + row] * z + view[12 + row];
          out[0][row] = Math.min(out[0][row], at); out[1][row] = Math.max(out[1][row], at);
        }
      return out;
    };
    const own = spans(low, high), all = spans(lowest, highest);
    const toClip = times(inBox([own[0][0] - 1, own[0][1] - 1, all[0][2] - 1], [own[1][0] + 1, own[1][1] + 1, all[1][2] + 1]), view);
    const toShadow = times(new Float64Array([0.5, 0, 0, 0, 0, 0.5, 0, 0, 0, 0, 0.5, 0, 0.5, 0.5, 0.5, 1]), toClip);
    if (this.shadowOf[which] === key) return toShadow;
    this.shadowOf[which] = key;
    gl.bindFramebuffer(gl.FRAMEBUFFER, this.shadowTargets[which]);
    gl.viewport(0, 0, SHADOW, SHADOW);
    gl.enable(gl.DEPTH_TEST);
    gl.depthFunc(gl.LEQUAL);
    gl.clear(gl.DEPTH_BUFFER_BIT);
    gl.enable(gl.POLYGON_OFFSET_FILL);
    gl.polygonOffset(1.5, 2);
    const program = side.programs.shadow;
    gl.useProgram(program.program);
    gl.uniformMatrix4fv(program.at("to_clip"), false, new Float32Array(toClip));
    gl.uniform2fv(program.at("ground_size"), side.state.ground.size);
    this.bind(0, gl.TEXTURE_2D, side.textures.heights, program.at("heights"));
    this.patchesOf(side.ground.patches(null));
    for (const piece of side.pieces) {
      const each = side.programs.pieces[piece.program].shadow;
      gl.useProgram(each.program);
      gl.uniformMatrix4fv(each.at("to_clip"), false, new Float32Array(toClip));
      gl.uniform1f(each.at("cut_out"), side.state.cut_out);
      gl.bindBufferBase(gl.UNIFORM_BUFFER, 0, piece.block);
      piece.samplers.forEach(({ name, array }, unit) => this.bind(unit, gl.TEXTURE_2D_ARRAY, side.arrays[array], each.at(name)));
      this.cornersOf(piece);
    }
    gl.disable(gl.POLYGON_OFFSET_FILL);
    return toShadow;
  }

  cornersOf(piece) {
    this.gl.bindVertexArray(piece.drawn.own);
    this.gl.drawElements(this.gl.TRIANGLES, piece.drawn.count, this.gl.UNSIGNED_INT, 0);
    this.gl.bindVertexArray(null);
  }

  drawSide(which, side, camera, top, rows) {
    const gl = this.gl, { state, textures } = side, [width, height] = this.size, aspect = this.canvas.clientWidth / this.canvas.clientHeight;
    if (state.shadowing >= 0) this.castShadows(side, camera);
    gl.bindFramebuffer(gl.FRAMEBUFFER, this.targets[which].many);
    gl.viewport(0, 0, width, height);
    gl.enable(gl.DEPTH_TEST);
    gl.enable(gl.SCISSOR_TEST);
    gl.scissor(0, top, width, rows);
    gl.clearDepth(1);
    gl.clear(gl.DEPTH_BUFFER_BIT | gl.COLOR_BUFFER_BIT);
    gl.bindBufferBase(gl.UNIFORM_BUFFER, 1, side.blocks.light);
    const shown = [side.exposure, state.bent ? 1 : 0];

    const sky = side.programs.sky;
    gl.useProgram(sky.program);
    gl.depthFunc(gl.LEQUAL);
    gl.depthMask(false);
    gl.uniformMatrix4fv(sky.at("from_clip"), false, new Float32Array(camera.fromClip(aspect)));
    gl.uniform2fv(sky.at("shown"), shown);
    this.bind(0, gl.TEXTURE_2D, textures.sky_light, sky.at("sky_light"));
    this.bind(1, gl.TEXTURE_2D, textures.thrown_back, sky.at("thrown_back"));
    gl.drawArrays(gl.TRIANGLES, 0, 3);
    gl.depthMask(true);

    const toClip = new Float32Array(camera.toClip(aspect, Math.hypot(...state.ground.size))), eye = camera.position;
    const isSeen = (low, high) => sees(toClip, [low, high], 2 * top / height - 1, 2 * (top + rows) / height - 1);
    for (const piece of side.pieces) {  // before the ground: they hide some of it
      if (!isSeen(piece.shape.low, piece.shape.high)) continue;
      const own = side.programs.pieces[piece.program].draw;
      this.readyFor(own, side, toClip, eye, shown, piece.layers, piece.samplers);
      gl.bindBufferBase(gl.UNIFORM_BUFFER, 0, piece.block);
      this.cornersOf(piece);
    }
    gl.bindBufferBase(gl.UNIFORM_BUFFER, 0, side.blocks.blend);
    this.readyFor(side.programs.ground, side, toClip, eye, shown, state.own_layers, state.samplers);
    this.patchesOf(side.ground.patches(eye, this.fine, isSeen));

    gl.bindFramebuffer(gl.READ_FRAMEBUFFER, this.targets[which].many);
    gl.bindFramebuffer(gl.DRAW_FRAMEBUFFER, this.targets[which].one);
    gl.blitFramebuffer(0, top, width, top + rows, 0, top, width, top + rows, gl.COLOR_BUFFER_BIT, gl.NEAREST);
    gl.disable(gl.SCISSOR_TEST);
  }

  // What the program of the ground, or of a part of a mesh, reads beside its block.
  readyFor(own, side, toClip, eye, shown, layers, samplers) {
    const gl = this.gl, { state, textures } = side, keys = new Map(state.layers.map((layer) => [layer.name, layer.key]));
    gl.useProgram(own.program);
    gl.uniformMatrix4fv(own.at("to_clip"), false, toClip);
    gl.uniform2fv(own.at("ground_size"), state.ground.size);
    gl.uniform3fv(own.at("eye"), eye);
    gl.uniform4f(own.at("air"), ...state.air, Number.isFinite(state.haze) ? 1 / state.haze : 0);
    gl.uniform2fv(own.at("shown"), shown);
    gl.uniform1i(own.at("part"), side.part);
    gl.uniform1i(own.at("chosen"), layers.indexOf(state.layers[side.chosen]?.name));
    gl.uniform1i(own.at("left_out"), side.leftOut);
    gl.uniform1i(own.at("dark"), side.dark);
    gl.uniform1i(own.at("shadowing"), state.shadowing);
    gl.uniform1f(own.at("cut_out"), state.cut_out);
    if (side.toShadow) gl.uniformMatrix4fv(own.at("to_shadow"), false, new Float32Array(side.toShadow));
    if (side.toNear) gl.uniformMatrix4fv(own.at("to_near"), false, new Float32Array(side.toNear));
    gl.uniform3fv(own.at("keys"), layers.flatMap((name) => keys.get(name).map((each) => ((each / 255 + 0.055) / 1.055) ** 2.4)));
    let unit = 0;
    for (const [name, texture] of Object.entries(textures)) if (own.at(name)) this.bind(unit++, gl.TEXTURE_2D, texture, own.at(name));
    const onGrid = side.grid && state.parts.some((each) => each.code === side.part && each.name === "labelled grid");
    for (const { name, array } of samplers) this.bind(unit++, gl.TEXTURE_2D_ARRAY, onGrid && array === state.coloured ? side.grid : side.arrays[array], own.at(name));
    this.shadows.forEach((texture, which) => this.bind(unit++, gl.TEXTURE_2D, texture, own.at(["shadows", "near_shadows"][which])));
  }

  // The share of pixels in which left and right differ by more than 2 of 255.
  shareThatDiffers() {
    const gl = this.gl, [width, height] = this.size;
    const [one, other] = this.targets.map((target) => {
      const out = new Uint8Array(4 * width * height);
      gl.bindFramebuffer(gl.FRAMEBUFFER, target.one);
      gl.readPixels(0, 0, width, height, gl.RGBA, gl.UNSIGNED_BYTE, out);
      return out;
    });
    gl.bindFramebuffer(gl.FRAMEBUFFER, null);
    let count = 0;
    for (let at = 0; at < one.length; at += 4)
      if (Math.abs(one[at] - other[at]) > 2 || Math.abs(one[at + 1] - other[at + 1]) > 2 || Math.abs(one[at + 2] - other[at + 2]) > 2) ++count;
    return count / (width * height);
  }

  finish() { const gl = this.gl; gl.bindFramebuffer(gl.FRAMEBUFFER, null); gl.readPixels(0, 0, 1, 1, gl.RGBA, gl.UNSIGNED_BYTE, new Uint8Array(4)); }
}
