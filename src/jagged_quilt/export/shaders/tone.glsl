vec3 encoded(vec3 colour) {
    return mix(12.92 * colour, 1.055 * pow(max(colour, 0.0), vec3(1.0 / 2.4)) - 0.055, step(0.0031308, colour));
}

// All three channels are bent alike, by the brightest, so that a colour keeps its hue.
vec3 toned(vec3 light) {
    light *= shown.x;
    if (shown.y == 0.0) return min(light, 1.0);
    float most = max(max(light.r, light.g), light.b);
    return most > 0.7 ? light * (1.0 - 0.3 * exp((0.7 - most) / 0.3)) / most : light;
}
