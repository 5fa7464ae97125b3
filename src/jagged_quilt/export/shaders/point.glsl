
in vec3 place;
in vec3 facing;

out vec4 seen;

Point point_of(vec2 uv, vec3 normal) {
    Point point;
    point.position = place;
    point.normal = normal;
    point.step_x = dFdx(place);
    point.step_y = dFdy(place);
    //?uv
    // How u and v grow with the place, from how they grow on the screen (Mikkelsen 2010).
    vec3 of_x = cross(point.step_y, point.normal), of_y = cross(point.normal, point.step_x);
    float whole = dot(point.step_x, of_x);
    point.uv = uv;
    point.along_u = (dFdx(uv.x) * of_x + dFdy(uv.x) * of_y) / whole;
    point.along_v = (dFdx(uv.y) * of_x + dFdy(uv.y) * of_y) / whole;
    //.
    //?ways
    point.way_u = normalize(point.along_u);
    point.way_v = normalize(point.along_v);
    //.
    return point;
}
