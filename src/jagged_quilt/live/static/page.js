// The page: what the server says of a quilt becomes textures and programs; what hands do becomes pictures and changes.

import { Brush } from "./brush.js";
import { Camera } from "./camera.js";
import { Ground } from "./ground.js";
import { $, Knobs, chooseFrom, explained, keyOf, roleBoxes } from "./panels.js";
import { Shape, drawable, hitOf } from "./meshes.js";
import { Picture } from "./picture.js";
import { block, compiled, emptyArray, fillLevel, fillPart, flat, readFrom } from "./programs.js";

const FAST = 5e-4;  // milliseconds a pixel: below, edges are smoothed and the ground is fine; a graphics card takes a fiftieth of it
const FIRST = 64;  // texels of the mips that are fetched before all larger ones
const SLOW = 40, STRIP = 200, AFTER = 250;  // milliseconds: of a frame while something moves, of a strip of a whole one, and until that is drawn
const canvas = $("picture"), ground = new Ground(), held = new Map();
const next = { part: 1, strip: 0, strips: 1, fast: false };
const seen = { part: "lit", layer: 0, leftOut: 0, dark: 0, line: 0.5, differ: false };
let picture, camera, knobs, brush, now = null, left = null, whole = 0, asked = false, perPixel = 0.02, compiling = true, revision = -1, alive = true, sunMoved = null;

const fixed = document.body.dataset.fixed !== undefined;  // files alone, with nobody to answer

async function get(path, options) {
  if (fixed && path.startsWith("data/")) {
    const squeezed = await fetch(`data-${path.slice(5).split("?")[0]}.gz`);
    if (!squeezed.ok) throw new Error(`${path} is not there`);
    return new Response(squeezed.body.pipeThrough(new DecompressionStream("gzip")));
  }
  const answer = await fetch(path, options);
  if (!answer.ok) {
    const text = await answer.text();
    let said = text;
    try { said = JSON.parse(text).error ?? text; } catch { /* it is plain */ }
    throw new Error(said.trim());
  }
  return answer;
}
const json = async (path, options) => (await get(path, options)).json();
const post = (path, body = {}) => json(path, { method: "POST", body: JSON.stringify(body) });

function say(text) { $("status").textContent = text; }
function complain(error) { $("error").hidden = !error; $("error").textContent = error ? String(error.message ?? error) : ""; }

// What is held under a stamp is fetched once, and let go of when neither side shows it.
async function kept(name, stamp, make) {
  const key = `${name} ${stamp}`;
  if (!held.has(key)) held.set(key, get(`data/${name}?stamp=${stamp}`).then((answer) => {
    if ((answer.headers.get("x-stamp") ?? stamp) !== stamp) held.delete(key);  // the server is further; it is shown, and not kept
    return answer.arrayBuffer();
  }).then(make).catch((error) => { held.delete(key); throw error; }));
  return held.get(key);
}

// Where a texture is held of what differs in a part alone, that part is fetched; what the left shows is left alone.
async function patched(data, name, stamp) {
  const patch = data[`${name}_patch`], before = `${name} ${patch?.onto}`, key = `${name} ${stamp}`;
  if (!patch || patch.stamp !== stamp || held.has(key) || !held.has(before) || left?.textures[name] === now?.textures[name]) return;
  const own = held.get(before), answer = await get(`data/${name}_patch?stamp=${stamp}`), bytes = await answer.arrayBuffer();
  if (answer.headers.get("x-stamp") !== stamp || held.get(before) !== own) return;  // the server is further: all of it is fetched
  held.delete(before);
  held.set(key, own);
  fillPart(picture.gl, await own, patch, bytes);
}

async function sideOf(state) {
  const gl = picture.gl, textures = {}, blocks = {}, arrays = {}, programs = {}, data = state.data;
  const waiting = Object.entries(data).filter(([name]) => !/^(array|piece|grid)_|_patch$/.test(name)).map(async ([name, own]) => {
    await patched(data, name, own.stamp);
    if (name === "blend" || name === "light") blocks[name] = await kept(name, own.stamp, (bytes) => block(gl, bytes));
    else textures[name] = await kept(name, own.stamp, (bytes) => {
      if (name === "heights") ground.set(new Float32Array(bytes), own.size, state.ground.size);
      return flat(gl, name.replace(/_\d+$/, ""), own.size, bytes);
    });
  });
  const key = `programs ${state.programs}`, blocks01 = { Blend: 0, Lights: 1 };
  if (!held.has(key)) held.set(key, json("programs").then((sources) => ({
    ground: compiled(gl, sources.ground, blocks01), shadow: compiled(gl, sources.shadow), sky: compiled(gl, sources.sky, { Lights: 1 }),
    pieces: Object.fromEntries(Object.entries(sources.pieces).map(([name, [vertex, draw, shadow]]) => [name, { draw: compiled(gl, [vertex, draw], blocks01), shadow: compiled(gl, [vertex, shadow], { Blend: 0 }) }])) })));
  const pieces = Promise.all(state.pieces.map((piece, number) => pieceOf(state, piece, `piece_${number}`)));
  Object.assign(programs, await held.get(key));
  await Promise.all(waiting);
  for (const array of state.arrays) {
    const whole = data[`array_${array}_0`], name = `array_${array} ${whole.stamp}`;
    if (!held.has(name)) held.set(name, { texture: emptyArray(gl, state.levels, whole), next: state.levels - 1 });
    arrays[array] = held.get(name).texture;
  }
  const stamps = Object.entries(data).filter(([name]) => name.startsWith("piece_")).map(([, own]) => own.stamp).join();
  return { state, ground, textures, blocks, arrays, programs, pieces: await pieces, stamps, toSun: state.to_sun, exposure: state.exposure, part: 0, chosen: 0, leftOut: 0, dark: 0, toShadow: null };
}

// A part of a mesh: what is drawn of it, what its program reads, and what a ray meets.
async function pieceOf(state, piece, name) {
  const gl = picture.gl, stamp = (what) => state.data[`${name}_${what}`].stamp, raw = (what) => kept(`${name}_${what}`, stamp(what), (bytes) => bytes);
  const [vertices, triangles, carried] = await Promise.all([raw("vertices"), raw("triangles"), raw("carried")]);
  const once = (what, make) => { const key = `${name}_${what} ${stamp(what)}`, own = `${key} made`; if (!held.has(own)) held.set(own, make()); return held.get(own); };
  const drawn = once("carried", () => drawable(gl, piece.fours, vertices, triangles, carried)), shape = once("vertices", () => new Shape(vertices, triangles));
  return { ...piece, drawn, shape, block: await kept(`${name}_blend`, stamp("blend"), (bytes) => block(gl, bytes)) };
}

// Mips of the arrays: the small ones of all first, which show a picture at once, then the others.
async function fetchLevels(state) {
  const sizes = state.data[`array_${state.arrays[0]}_0`].size[0], first = Math.max(0, Math.round(Math.log2(sizes / FIRST)));
  for (const [from, to] of first ? [[state.levels - 1, first], [first - 1, 0]] : [[state.levels - 1, 0]]) {
    for (let level = from; level >= to; --level) {
      await Promise.all(state.arrays.map(async (array) => {
        const own = state.data[`array_${array}_${level}`], there = held.get(`array_${array} ${own.stamp}`);
        if (!there || there.next < level) return;
        const bytes = await (await get(`data/array_${array}_${level}?stamp=${own.stamp}`)).arrayBuffer();
        fillLevel(picture.gl, there.texture, level, own, bytes);
        there.next = level - 1;
      }));
      if (to === 0) say(`textures: ${state.levels - level} of ${state.levels} sizes`);
    }
    for (const array of state.arrays) {
      const there = held.get(`array_${array} ${state.data[`array_${array}_0`].stamp}`);
      if (there) readFrom(picture.gl, there.texture, there.next + 1);
    }
    compiling = true;
    draw(true);
  }
}

// The labelled grid, in every slice of an array as large as that of the colours.
async function fetchGrid(side) {
  const { state } = side, own = state.data[`array_${state.coloured}_0`], key = `grid made ${own.size}`;
  if (!held.has(key)) held.set(key, (async () => {
    const texture = emptyArray(picture.gl, state.levels, own);
    for (let level = state.levels - 1; level >= 0; --level) {
      const bytes = new Uint8Array(await (await get(`data/grid_${level}?stamp=${state.data[`grid_${level}`].stamp}`)).arrayBuffer()), across = own.size[0] >> level, all = new Uint8Array(bytes.length * own.size[2]);
      for (let slice = 0; slice < own.size[2]; ++slice) all.set(bytes, slice * bytes.length);
      fillLevel(picture.gl, texture, level, { size: [across, across, own.size[2]] }, all);
    }
    readFrom(picture.gl, texture, 0);
    return { texture };
  })());
  try { side.grid = (await held.get(key)).texture; } catch (error) { held.delete(key); complain(error); return; }
  if (side === now) look();
}

function letGo() {
  const used = new Set();
  for (const side of [now, left]) if (side) {
    used.add(`programs ${side.state.programs}`);
    for (const [name, own] of Object.entries(side.state.data)) { used.add(`${name} ${own.stamp}`); used.add(`${name} ${own.stamp} made`); used.add(`${name.replace(/_0$/, "")} ${own.stamp}`); }
  }
  for (const key of [...held.keys()]) if (!used.has(key) && !key.startsWith("grid made")) {
    const gone = held.get(key);
    held.delete(key);
    Promise.resolve(gone).then((own) => { if (own instanceof WebGLTexture) picture.gl.deleteTexture(own); else if (own instanceof WebGLBuffer) picture.gl.deleteBuffer(own); else if (own?.texture) picture.gl.deleteTexture(own.texture); else own?.release?.(); });
  }
}

async function show(state, moving = false) {
  const first = now === null;
  revision = state.revision;
  complain(state.error);
  if (!state.data) return;
  const next = await sideOf(state);
  if (state.revision < revision) return;  // a later one came meanwhile
  now = next;
  if (first) fromAddress(state);
  words(state);
  if (first) compiling = true;
  look(first || moving);
  letGo();
  if (first || state.arrays.some((array) => held.get(`array_${array} ${state.data[`array_${array}_0`].stamp}`).next >= 0)) await fetchLevels(state);
  say(`${state.file}${Object.keys(state.changed).length ? `, ${Object.keys(state.changed).length} changed` : ""}`);
  document.body.dataset.ready = state.revision;
}

function words(state) {
  document.title = `${state.title} · Jagged Quilt`;
  $("title").textContent = state.title;
  chooseFrom($("part"), state.parts.map((each) => each.name), seen.part);
  chooseFrom($("layer"), state.layers.map((each) => each.name));
  roleBoxes($("roles"), state.roles, seen.leftOut, (bit, on) => { seen.leftOut = on ? seen.leftOut & ~(1 << bit) : seen.leftOut | 1 << bit; look(); });
  roleBoxes($("lamps"), state.lamps, seen.dark, (bit, on) => { seen.dark = on ? seen.dark & ~(1 << bit) : seen.dark | 1 << bit; look(); keepAddress(); });
  knobs.show(state.knobs);
  brush.offer(state.paints);
  keyOf($("key"), state.layers);
  $("undo").disabled = !state.can_undo; $("redo").disabled = !state.can_redo; $("save").disabled = !Object.keys(state.changed).length;
  $("changed").replaceChildren(...Object.entries(state.changed).map(([key, value]) => Object.assign(document.createElement("li"), { textContent: `${key} = ${JSON.stringify(value)}` })));
  if (!turning || !waiting) showSun(state.to_sun, state.sun_keys.length > 0);
}

// What is chosen becomes what the right side shows.
function look(moving = false) {
  if (!now) return;
  now.part = now.state.parts.find((each) => each.name === seen.part)?.code ?? 0;
  now.chosen = seen.layer;
  now.leftOut = seen.leftOut;
  now.dark = seen.dark;
  if (seen.part === "labelled grid" && !now.grid) { fetchGrid(now); return; }
  $("layer-label").hidden = seen.part !== "one layer";
  $("key").hidden = seen.part !== "weights";
  $("differ").hidden = $("line").hidden = $("sides").hidden = !left;
  $("hold").textContent = left ? "Let go of the left" : "Hold on the left";
  $("differ").setAttribute("aria-pressed", seen.differ);
  $("line").style.left = `${100 * seen.line}%`;
  $("line").setAttribute("aria-valuenow", Math.round(100 * seen.line));
  for (const [id, side] of [["left-name", left], ["right-name", now]]) { $(id).textContent = side ? named(side) : ""; $(id).style.left = `${100 * seen.line}%`; }
  draw(moving);
}

function named(side) {
  const part = side.state.parts.find((each) => each.code === side.part).name, without = side.state.roles.filter((_, bit) => side.leftOut & 1 << bit);
  const changes = Object.entries(side.state.changed).map(([key, value]) => `${key} = ${JSON.stringify(value)}`);
  return [part === "one layer" ? side.state.layers[side.chosen].name : part, ...side.state.lamps.filter((_, bit) => side.dark & 1 << bit).map((lamp) => `${lamp} out`), ...(without.length ? [`without ${without.join(", ")}`] : []), ...changes.slice(-2)].join("; ");
}

// While something moves, as much of the size as can be drawn at once; then the whole, in strips where that takes long.
function draw(moving = false) {
  clearTimeout(whole);
  document.body.dataset.whole = false;
  if (moving) whole = setTimeout(() => { draw(); keepAddress(); }, AFTER);
  const estimate = perPixel * canvas.clientWidth * canvas.clientHeight * (left ? 2 : 1);
  Object.assign(next, moving ? { part: Math.min(1, Math.max(0.15, Math.sqrt(SLOW / estimate))), strip: 0, strips: 1 } : { part: 1, strip: 0, strips: Math.min(8, Math.ceil(estimate / STRIP)) });
  if (!asked && now) { asked = true; requestAnimationFrame(frame); }
}

function frame() {
  const start = performance.now(), { part, strip, strips } = next;
  if (strip === 0) next.fast = perPixel < FAST;  // the same for all strips of a picture
  picture.draw({ left, right: now, line: seen.line, differ: seen.differ, camera, part, strip, strips, fast: next.fast });
  picture.finish();
  const took = performance.now() - start, pixels = canvas.width * canvas.height * (left ? 2 : 1) / strips;
  if (!compiling) perPixel = took / pixels < perPixel / 4 ? took / pixels : 0.7 * perPixel + 0.3 * took / pixels;
  compiling = false;  // a driver may put off compiling until it draws
  next.strip = strip + 1;
  asked = next.strip < strips;
  if (asked) requestAnimationFrame(frame);
  else if (part === 1 && left) $("share").textContent = `${(100 * picture.shareThatDiffers()).toFixed(1)} % differ`;
  Object.assign(document.body.dataset, { frame: took.toFixed(1), frames: Number(document.body.dataset.frames ?? 0) + 1, whole: part === 1 && !asked });
}

// ---- Changes: one at a time; while one is being answered, only the last that came is kept.
let turning = false, waiting = null;
async function turn(changes, moving) {
  waiting = { changes: waiting ? { ...waiting.changes, ...changes } : changes, moving };
  if (turning) return;
  turning = true;
  try {
    while (waiting) {
      const next = waiting;
      waiting = null;
      try { await show(await post("turn", next)); } catch (error) { complain(error); knobs.show(now.state.knobs, true); }
    }
  } finally { turning = false; sunMoved = null; }
}
async function step(which) { if (fixed) return; try { const state = await post(which); await show(state); if (state.saved) say(`saved: ${state.saved.join("; ") || "nothing"}`); } catch (error) { complain(error); } }

async function follow() {
  for (;;) {
    try {
      const said = await json(`changes?revision=${revision}`);
      if (!alive) { alive = true; complain(""); }
      if (said.revision !== revision && !turning && !brush.busy) await show(await json("state"));
    } catch (error) {
      if (alive) { alive = false; complain("the server does not answer; changes are kept by it as long as it runs, and this page tries again"); }
      await new Promise((wait) => setTimeout(wait, 1500));
    }
  }
}

// ---- The sun on its disc: north on top, the zenith in the middle.
function showSun(way, there) {
  $("sun").style.visibility = there ? "" : "hidden";
  const height = Math.asin(way[1]), far = 50 * (1 - height / (Math.PI / 2)), level = Math.hypot(way[0], way[2]) || 1;
  $("disc").setAttribute("cx", far * way[0] / level); $("disc").setAttribute("cy", far * way[2] / level);
}
function sunTo(bearing, height, moving) {
  height = Math.min(89, Math.max(1, height)); bearing = (bearing % 360 + 360) % 360;
  const around = bearing * Math.PI / 180, rise = height * Math.PI / 180, way = [Math.sin(around) * Math.cos(rise), Math.sin(rise), -Math.cos(around) * Math.cos(rise)];
  sunMoved = [bearing, height];
  showSun(way, true);
  now.toSun = way;  // at once; the server's own light comes after it
  const gl = picture.gl, bytes = now.blocks.light.bytes.slice(0);
  new Float32Array(bytes, 80 * now.state.shadowing, 3).set(way);
  if (now.ownLight) gl.deleteBuffer(now.ownLight);
  now.ownLight = block(gl, bytes);
  now.blocks = { ...now.blocks, light: now.ownLight };
  draw(true);
  if (fixed) return;
  const values = [bearing, height].map((each) => Math.round(each * 10) / 10), keys = now.state.sun_keys;
  turn(keys.length === 1 ? { [keys[0]]: values } : { [keys[0]]: values[0], [keys[1]]: values[1] }, moving);
}
function listenToSun() {
  const disc = $("sun"), at = (event) => {
    const box = disc.getBoundingClientRect(), x = (event.clientX - box.left) / box.width * 104 - 52, y = (event.clientY - box.top) / box.height * 104 - 52;
    return [Math.atan2(x, -y) * 180 / Math.PI, 90 * (1 - Math.min(1, Math.hypot(x, y) / 50))];
  };
  disc.addEventListener("pointerdown", (event) => { disc.setPointerCapture(event.pointerId); sunTo(...at(event), true); });
  disc.addEventListener("pointermove", (event) => { if (event.buttons & 1) sunTo(...at(event), true); });
  disc.addEventListener("pointerup", (event) => sunTo(...at(event), false));
  disc.addEventListener("keydown", (event) => {
    const way = now?.toSun, by = { ArrowLeft: [-5, 0], ArrowRight: [5, 0], ArrowUp: [0, 3], ArrowDown: [0, -3] }[event.key];
    if (!way || !by) return;
    event.preventDefault();
    const [bearing, height] = sunMoved ?? [Math.atan2(way[0], -way[2]) * 180 / Math.PI, Math.asin(way[1]) * 180 / Math.PI];
    sunTo(bearing + by[0], height + by[1], false);
  });
}

// ---- What is seen stands in the address, so that a link shows it again.
function keepAddress() {
  const { position, target, angle } = camera.stands, round = (each) => Math.round(each * 100) / 100;
  const said = { eye: position.map(round).join(), at: target.map(round).join(), angle: round(angle), see: seen.part };
  if (seen.part === "one layer") said.layer = now.state.layers[seen.layer].name;
  if (seen.leftOut) said.without = now.state.roles.filter((_, bit) => seen.leftOut & 1 << bit).join();
  if (seen.dark) said.out = now.state.lamps.filter((_, bit) => seen.dark & 1 << bit).join();
  if (left) said.line = round(seen.line);
  history.replaceState(null, "", `#${new URLSearchParams(said)}`);
}
function fromAddress(state) {
  const said = new URLSearchParams(location.hash.slice(1)), three = (name) => said.get(name)?.split(",").map(Number);
  camera.stand(state.camera);
  if (three("eye")?.length === 3 && three("at")?.length === 3 && [...three("eye"), ...three("at")].every(Number.isFinite))
    camera.stand({ position: three("eye"), target: three("at"), angle: Number(said.get("angle")) || state.camera.angle });
  if (state.parts.some((each) => each.name === said.get("see"))) seen.part = said.get("see");
  seen.layer = Math.max(0, state.layers.findIndex((each) => each.name === said.get("layer")));
  for (const lamp of said.get("out")?.split(",") ?? []) if (state.lamps.includes(lamp)) seen.dark |= 1 << state.lamps.indexOf(lamp);
  for (const role of said.get("without")?.split(",") ?? []) if (state.roles.includes(role)) seen.leftOut |= 1 << state.roles.indexOf(role);
}

// What lies under a place of the window.
function under(x, y) {
  const box = canvas.getBoundingClientRect(), way = camera.ray(2 * (x - box.left) / box.width - 1, 1 - 2 * (y - box.top) / box.height, box.width / box.height);
  return now && hitOf(ground, now.pieces, camera.position, way, 8 * Math.hypot(...ground.size));
}
async function ask(x, y) {
  const hit = under(x, y);
  if (!hit) { say("there is nothing"); return; }
  const { at } = hit;
  if (hit.mesh !== null) { say(`${hit.mesh}: x ${at[0].toFixed(2)} m, y ${at[1].toFixed(2)} m, z ${at[2].toFixed(2)} m`); return; }
  if (fixed) { say(`x ${at[0].toFixed(2)} m, z ${at[2].toFixed(2)} m; ${at[1].toFixed(2)} m high`); return; }
  try {
    const there = await json(`at?x=${at[0]}&z=${at[2]}`);
    $("place-title").textContent = "Why it looks so here";
    $("place-text").replaceChildren(explained(there));
    $("place").showModal();
  } catch (error) { complain(error); }
}

function hold() {
  left = left ? null : { ...now, ownLight: null };
  if (left) now.ownLight = null;  // it is the left's now
  seen.differ = false;
  $("share").textContent = "";
  look();
  letGo();
  keepAddress();
}

function savePicture() {
  picture.draw({ left, right: now, line: seen.line, differ: seen.differ, camera, fast: perPixel < FAST });
  canvas.toBlob((blob) => {
    const link = Object.assign(document.createElement("a"), { href: URL.createObjectURL(blob), download: `${now.state.file.replace(/\.quilt\.toml$/, "")}.png` });
    link.click();
    setTimeout(() => URL.revokeObjectURL(link.href), 10000);
  });
}
async function copyLink() {
  keepAddress();
  try { await navigator.clipboard.writeText(location.href); say("the address is copied"); } catch { say("copy it from the address bar: it holds this view"); }
}

function listen() {
  $("part").addEventListener("change", () => { seen.part = $("part").value; look(); keepAddress(); });
  $("layer").addEventListener("change", () => { seen.layer = $("layer").selectedIndex; look(); keepAddress(); });
  $("hold").addEventListener("click", hold);
  $("differ").addEventListener("click", () => { seen.differ = !seen.differ; look(); });
  $("find").addEventListener("input", () => knobs.find($("find").value));
  for (const which of ["undo", "redo", "save"]) $(which).addEventListener("click", () => step(which));
  $("camera").addEventListener("click", () => { camera.stand(now.state.camera); draw(); keepAddress(); });
  $("keep").addEventListener("click", savePicture);
  $("link").addEventListener("click", copyLink);
  const line = $("line"), to = (share) => { seen.line = Math.min(1, Math.max(0, share)); look(); };
  line.addEventListener("pointerdown", (event) => line.setPointerCapture(event.pointerId));
  line.addEventListener("pointermove", (event) => { if (event.buttons & 1) to(event.clientX / canvas.clientWidth); });
  line.addEventListener("keydown", (event) => { const by = { ArrowLeft: -0.02, ArrowRight: 0.02 }[event.key]; if (by) { event.preventDefault(); to(seen.line + by); } });
  window.addEventListener("resize", () => draw());
  window.addEventListener("keydown", (event) => {
    if ((event.ctrlKey || event.metaKey) && !event.altKey) {
      const which = { z: event.shiftKey ? "redo" : "undo", y: "redo", s: "save" }[event.key.toLowerCase()];
      if (which) { event.preventDefault(); step(which); }
      return;
    }
    if (event.altKey || /^(INPUT|SELECT|TEXTAREA)$/.test(event.target.tagName) || $("place").open) return;
    const number = "123456789".indexOf(event.key);
    if (number >= 0 && now?.state.parts[number]) { seen.part = $("part").value = now.state.parts[number].name; look(); keepAddress(); }
    ({ h: hold, x: () => { if (left) { seen.differ = !seen.differ; look(); } }, p: savePicture, l: copyLink, b: () => { if (!fixed) $("painting").open = !$("painting").open; }, "[": () => brush.wider(1 / 1.25), "]": () => brush.wider(1.25), 0: () => $("camera").click() })[event.key.toLowerCase()]?.();
  });
  canvas.addEventListener("webglcontextlost", (event) => { event.preventDefault(); complain("the graphics driver let go of the picture; it is drawn again as soon as it is back"); });
  canvas.addEventListener("webglcontextrestored", async () => { picture.restore(); held.clear(); now = left = null; complain(""); await show(await json("state")); });
}

async function begin() {
  try { picture = new Picture(canvas); } catch (error) {
    complain(`${error.message}: this picture was drawn by the library itself, and stands still`);
    const still = Object.assign(new Image(), { src: "still.png", alt: "The view of the quilt file" });
    still.id = "still";
    document.querySelector("main").replaceChildren(still);
    return;
  }
  camera = new Camera(canvas, ground, () => draw(true), ask);
  brush = camera.brush = new Brush(canvas, {
    hit: under, say, complain, send: async (stroke) => show(await post("paint", stroke), true),
    heightAt: (x, z) => ground.heightAt(x, z), onScreen: (place) => camera.onScreen(place, canvas.clientWidth, canvas.clientHeight) });
  knobs = new Knobs($("groups"), (key, value, moving) => turn({ [key]: value }, moving));
  listen();
  listenToSun();
  try { await show(await json("state")); } catch (error) { complain(error); }
  if (!fixed) follow();
}
begin();
