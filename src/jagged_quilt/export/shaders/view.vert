//?ground
// Places a vertex of the ground: a patch of the heightmap, some samples apart, with a skirt that hides gaps to coarser ones.

uniform highp sampler2D heights;  // metres
uniform vec2 ground_size;         // metres, east and south
uniform mat4 to_clip;             // the camera, or a light: world to clip space

layout(location = 0) in vec3 corner;  // samples of the patch, east and south; 1 where the skirt hangs
layout(location = 1) in vec4 patch_at;  // the patch's first sample, east and south; samples apart; metres that its skirt hangs

out vec3 place;
out vec3 facing;

void main() {
    ivec2 last = textureSize(heights, 0) - 1;
    ivec2 at = min(ivec2(patch_at.xy + corner.xy * patch_at.z), last);
    vec2 level = vec2(at) / vec2(last) * ground_size;
    place = vec3(level.x, texelFetch(heights, at, 0).r - corner.z * patch_at.w, level.y);
    facing = vec3(0.0, 1.0, 0.0);
    gl_Position = to_clip * vec4(place, 1.0);
}
//.
//?mesh
// Places a vertex of a mesh, and hands on what it carries.

uniform mat4 to_clip;  // the camera, or a light: world to clip space

layout(location = 0) in vec3 position;  // metres, world
layout(location = 1) in vec3 normal;
layout(location = 2) in vec2 uv;
{{carried_in}}

out vec3 place;
out vec3 facing;
out vec2 lies_at;
{{carried_out}}

void main() {
    place = position;
    facing = normal;
    lies_at = uv;
{{carry}}
    gl_Position = to_clip * vec4(place, 1.0);
}
//.
