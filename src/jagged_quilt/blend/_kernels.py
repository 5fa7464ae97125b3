"""The blend, as loops: per block of texels, expand - sample - resolve.

    expand   (scalar)      lists, in texel order, every texture sample that matters: a sample is one projection plane of
                           one layer at one texel; an entry is one layer at one texel and owns 1 - 3 samples
    sample   (vectorised)  reads each sample from one texture array into rows of float32, one row per channel
    resolve  (scalar)      weighs entries by height, drops what does not show, mixes the rest, sets normals upright

Nothing is checked and nothing is allocated here: `plan.py` does both. All of it stands in one file because the compiler's
cache on disk does not see a change in another.
"""

from __future__ import annotations

import math

import numpy as np

from jagged_quilt.foundation.compiler import inlined, kernel

# Rows of `samples_f` (float32) and `samples_i` (int32), one column per sample.
U, V, LEVEL_FRACTION, SHARE = 0, 1, 2, 3
SLICE, LEVEL, PLANE = 0, 1, 2
# Rows of `entries_f` and `entries_i`, one column per entry.
ENTRY_WEIGHT, ENTRY_TALLNESS = 0, 1
ENTRY_LAYER, ENTRY_FIRST = 0, 1
# Columns of `layers_f` (float64) and `layers_i` (int32), one row per layer.
INVERSE_TILE, SHARPNESS, HARDNESS, RELIEF, LEVEL_BIAS = 0, 1, 2, 3, 4
LAYER_SLICE, LAYER_PROJECTION = 0, 1
PLANAR, TRIPLANAR = 0, 1
# Columns of a blended texel.
DIFFUSE, NORMAL, ROUGHNESS, SPECULAR, OCCLUSION, HEIGHT, OUTPUTS = 0, 3, 6, 7, 10, 11, 12

PLANE_CUT = 0.02  # a projection plane with less than this share is left out; the others fade so that no edge shows
HEIGHT_FLOOR = 0.1  # what the deepest pit of a layer still counts beside the tallest relief
HIGHEST_MULTIPLIED_POWER = 16
PAD = 64  # samples are filled up to a multiple of this, so that every one goes through the vectorised body of the loop

BYTE = np.uint32(255)
INDEX = np.int32(0x7FFFFFFF)  # says "never negative" to LLVM, which then gathers by 32-bit indices
F0, F1, HALF = np.float32(0.0), np.float32(1.0), np.float32(0.5)


@inlined
def _power(base, exponent):
    """`base ** exponent` for a base from 0 to 1, by multiplication where the exponent is a small whole number."""
    whole = int(exponent)
    if whole == exponent and whole <= HIGHEST_MULTIPLIED_POWER:
        result = F1
        square = base
        while whole:
            if whole & 1:
                result *= square
            square *= square
            whole >>= 1
        return result
    return np.float32(math.pow(base, np.float32(exponent)))


@inlined
def _plane_shares(nx, ny, nz, sharpness):
    """How much each of the planes X, Y and Z counts: |n| to the power of sharpness, small ones cut, summing to 1."""
    x = _power(abs(nx), sharpness)
    y = _power(abs(ny), sharpness)
    z = _power(abs(nz), sharpness)
    cut = np.float32(PLANE_CUT) * (x + y + z)
    x = max(x - cut, F0)
    y = max(y - cut, F0)
    z = max(z - cut, F0)
    whole = F1 / (x + y + z)
    return x * whole, y * whole, z * whole


@inlined
def _plane_uv(plane, x, y, z, nx, ny, nz):
    """Where a world position lies on a plane, in metres: seen from outside, u grows to the right and v downwards."""
    if plane == 0:
        return (-z if nx >= 0 else z), -y
    if plane == 1:
        return x, (z if ny >= 0 else -z)
    return (x if nz >= 0 else -x), -y


@inlined
def _bitangent(normals, tangents, p):
    nx, ny, nz = normals[p, 0], normals[p, 1], normals[p, 2]
    tx, ty, tz, w = tangents[p, 0], tangents[p, 1], tangents[p, 2], tangents[p, 3]
    return (ny * tz - nz * ty) * w, (nz * tx - nx * tz) * w, (nx * ty - ny * tx) * w


@kernel
def expand(
    first, last, positions, normals, tangents, footprints, layer_index, layer_weight, layers_f, layers_i, levels,
    samples_f, samples_i, entries_f, entries_i, texel_entry
):  # fmt: skip
    """List the samples and entries of points `first` to `last`; return how many samples there are.

    levels : the number of mip levels to choose from; 1 reads the full-size level only.
    """
    n = 0
    e = 0
    most = layer_index.shape[1]
    for p in range(first, last):
        texel_entry[p - first] = e
        x, y, z = float(positions[p, 0]), float(positions[p, 1]), float(positions[p, 2])
        nx, ny, nz = normals[p, 0], normals[p, 1], normals[p, 2]
        plane_level_x = plane_level_y = plane_level_z = F0
        if levels > 1:
            # One step to the next texel along the tangent and one along the bitangent: the longer of the two, seen on
            # each plane, chooses the mip.
            bx, by, bz = _bitangent(normals, tangents, p)
            tx, ty, tz = tangents[p, 0], tangents[p, 1], tangents[p, 2]
            along_t = footprints[p, 0] * footprints[p, 0]
            along_b = footprints[p, 1] * footprints[p, 1]
            tiny = np.float32(1e-20)
            plane_level_x = HALF * math.log2(max(along_t * (F1 - tx * tx), along_b * (F1 - bx * bx), tiny))
            plane_level_y = HALF * math.log2(max(along_t * (F1 - ty * ty), along_b * (F1 - by * by), tiny))
            plane_level_z = HALF * math.log2(max(along_t * (F1 - tz * tz), along_b * (F1 - bz * bz), tiny))
        known_sharpness = -1.0
        share_x = share_y = share_z = F0
        for k in range(most):
            weight = layer_weight[p, k]
            if weight <= 0:
                break
            layer = layer_index[p, k]
            entries_f[ENTRY_WEIGHT, e] = weight
            entries_i[ENTRY_LAYER, e] = layer
            entries_i[ENTRY_FIRST, e] = n
            e += 1
            inverse_tile = layers_f[layer, INVERSE_TILE]
            if layers_i[layer, LAYER_PROJECTION] == TRIPLANAR:
                if layers_f[layer, SHARPNESS] != known_sharpness:
                    known_sharpness = layers_f[layer, SHARPNESS]
                    share_x, share_y, share_z = _plane_shares(nx, ny, nz, known_sharpness)
                from_x, from_y, from_z = share_x, share_y, share_z
            else:
                from_x, from_y, from_z = F0, F1, F0
            for plane in range(3):
                share = from_x if plane == 0 else (from_y if plane == 1 else from_z)
                if share <= 0:
                    continue
                u, v = _plane_uv(plane, x, y, z, nx, ny, nz)
                u *= inverse_tile
                v *= inverse_tile
                samples_f[U, n] = np.float32(u - math.floor(u))
                samples_f[V, n] = np.float32(v - math.floor(v))
                samples_f[SHARE, n] = share
                samples_i[SLICE, n] = layers_i[layer, LAYER_SLICE]
                samples_i[PLANE, n] = plane
                samples_i[LEVEL, n] = 0
                samples_f[LEVEL_FRACTION, n] = F0
                if levels > 1:
                    level = plane_level_x if plane == 0 else (plane_level_y if plane == 1 else plane_level_z)
                    level = min(max(level + np.float32(layers_f[layer, LEVEL_BIAS]), F0), np.float32(levels - 1))
                    whole = min(np.int32(level), np.int32(levels - 2))
                    samples_i[LEVEL, n] = whole
                    samples_f[LEVEL_FRACTION, n] = level - np.float32(whole)
                n += 1
    texel_entry[last - first] = e
    entries_i[ENTRY_FIRST, e] = n
    return n


@inlined
def _pad(samples_f, samples_i, n):
    """Fill up to a multiple of PAD with harmless samples; return the padded count."""
    padded = (n + PAD - 1) // PAD * PAD
    for s in range(n, padded):
        samples_f[U, s] = HALF
        samples_f[V, s] = HALF
        samples_f[LEVEL_FRACTION, s] = F0
        samples_i[SLICE, s] = 0
        samples_i[LEVEL, s] = 0
    return padded


@kernel
def sample_colour(
    n, second, texels, side_bits, level_start, decode, u, v, level_fraction, slices, levels, red, green, blue, alpha
):
    """Read n samples of an array whose RGB is sRGB-encoded: decoded to linear light before the bilinear mix.

    second : 0 reads the level itself; 1 reads the next smaller one and mixes it in by `level_fraction`.
    """
    scale = np.float32(1.0 / 255.0)
    for i in range(n):
        level = levels[i] + np.int32(second)
        bits = np.int32(side_bits) - level
        side = np.int32(1) << bits
        mask = side - np.int32(1)
        x = u[i] * np.float32(side) - HALF
        y = v[i] * np.float32(side) - HALF
        x_floor = np.floor(x)
        y_floor = np.floor(y)
        fx = x - x_floor
        fy = y - y_floor
        x0 = np.int32(x_floor) & mask
        y0 = np.int32(y_floor) & mask
        x1 = (x0 + np.int32(1)) & mask
        y1 = (y0 + np.int32(1)) & mask
        start = level_start[level] + (slices[i] << (bits + bits))
        row0 = start + (y0 << bits)
        row1 = start + (y1 << bits)
        a = texels[np.int32((row0 + x0) & INDEX)]
        b = texels[np.int32((row0 + x1) & INDEX)]
        c = texels[np.int32((row1 + x0) & INDEX)]
        d = texels[np.int32((row1 + x1) & INDEX)]
        f = level_fraction[i]
        whole = f if second else F1 - f
        wd = fx * fy * whole
        wc = fy * whole - wd
        wb = fx * whole - wd
        wa = whole - wb - wc - wd
        r = wa * decode[np.int32(a & BYTE)] + wb * decode[np.int32(b & BYTE)] + wc * decode[np.int32(c & BYTE)] + wd * decode[np.int32(d & BYTE)]
        g = (
            wa * decode[np.int32((a >> np.uint32(8)) & BYTE)]
            + wb * decode[np.int32((b >> np.uint32(8)) & BYTE)]
            + wc * decode[np.int32((c >> np.uint32(8)) & BYTE)]
            + wd * decode[np.int32((d >> np.uint32(8)) & BYTE)]
        )
        bl = (
            wa * decode[np.int32((a >> np.uint32(16)) & BYTE)]
            + wb * decode[np.int32((b >> np.uint32(16)) & BYTE)]
            + wc * decode[np.int32((c >> np.uint32(16)) & BYTE)]
            + wd * decode[np.int32((d >> np.uint32(16)) & BYTE)]
        )
        al = scale * (
            wa * np.float32(np.int32(a >> np.uint32(24)))
            + wb * np.float32(np.int32(b >> np.uint32(24)))
            + wc * np.float32(np.int32(c >> np.uint32(24)))
            + wd * np.float32(np.int32(d >> np.uint32(24)))
        )
        if second:
            red[i] += r
            green[i] += g
            blue[i] += bl
            alpha[i] += al
        else:
            red[i] = r
            green[i] = g
            blue[i] = bl
            alpha[i] = al


@kernel
def sample_data(
    n, second, texels, side_bits, level_start, u, v, level_fraction, slices, levels, red, green, blue, alpha
):
    """Read n samples of an array that holds plain numbers in all four channels. `second` as in `sample_colour`."""
    scale = np.float32(1.0 / 255.0)
    for i in range(n):
        level = levels[i] + np.int32(second)
        bits = np.int32(side_bits) - level
        side = np.int32(1) << bits
        mask = side - np.int32(1)
        x = u[i] * np.float32(side) - HALF
        y = v[i] * np.float32(side) - HALF
        x_floor = np.floor(x)
        y_floor = np.floor(y)
        fx = x - x_floor
        fy = y - y_floor
        x0 = np.int32(x_floor) & mask
        y0 = np.int32(y_floor) & mask
        x1 = (x0 + np.int32(1)) & mask
        y1 = (y0 + np.int32(1)) & mask
        start = level_start[level] + (slices[i] << (bits + bits))
        row0 = start + (y0 << bits)
        row1 = start + (y1 << bits)
        a = texels[np.int32((row0 + x0) & INDEX)]
        b = texels[np.int32((row0 + x1) & INDEX)]
        c = texels[np.int32((row1 + x0) & INDEX)]
        d = texels[np.int32((row1 + x1) & INDEX)]
        f = level_fraction[i]
        whole = (f if second else F1 - f) * scale
        wd = fx * fy * whole
        wc = fy * whole - wd
        wb = fx * whole - wd
        wa = whole - wb - wc - wd
        r = (
            wa * np.float32(np.int32(a & BYTE))
            + wb * np.float32(np.int32(b & BYTE))
            + wc * np.float32(np.int32(c & BYTE))
            + wd * np.float32(np.int32(d & BYTE))
        )
        g = (
            wa * np.float32(np.int32((a >> np.uint32(8)) & BYTE))
            + wb * np.float32(np.int32((b >> np.uint32(8)) & BYTE))
            + wc * np.float32(np.int32((c >> np.uint32(8)) & BYTE))
            + wd * np.float32(np.int32((d >> np.uint32(8)) & BYTE))
        )
        bl = (
            wa * np.float32(np.int32((a >> np.uint32(16)) & BYTE))
            + wb * np.float32(np.int32((b >> np.uint32(16)) & BYTE))
            + wc * np.float32(np.int32((c >> np.uint32(16)) & BYTE))
            + wd * np.float32(np.int32((d >> np.uint32(16)) & BYTE))
        )
        al = (
            wa * np.float32(np.int32(a >> np.uint32(24)))
            + wb * np.float32(np.int32(b >> np.uint32(24)))
            + wc * np.float32(np.int32(c >> np.uint32(24)))
            + wd * np.float32(np.int32(d >> np.uint32(24)))
        )
        if second:
            red[i] += r
            green[i] += g
            blue[i] += bl
            alpha[i] += al
        else:
            red[i] = r
            green[i] = g
            blue[i] = bl
            alpha[i] = al


@inlined
def _sample_array(n, texels, is_colour, side_bits, level_start, levels, decode, samples_f, samples_i, rows, row):
    passes = 2 if levels > 1 else 1
    for second in range(passes):
        if is_colour:
            sample_colour(
                n, second, texels, side_bits, level_start, decode, samples_f[U], samples_f[V],
                samples_f[LEVEL_FRACTION], samples_i[SLICE], samples_i[LEVEL],
                rows[row], rows[row + 1], rows[row + 2], rows[row + 3],
            )  # fmt: skip
        else:
            sample_data(
                n, second, texels, side_bits, level_start, samples_f[U], samples_f[V],
                samples_f[LEVEL_FRACTION], samples_i[SLICE], samples_i[LEVEL],
                rows[row], rows[row + 1], rows[row + 2], rows[row + 3],
            )  # fmt: skip


@kernel
def weigh_by_height(texels, texel_entry, entries_f, entries_i, samples_f, layers_f, height):
    """Let the taller layer show where layers meet; afterwards SHARE holds each sample's final weight in its texel.

    An entry's tallness is `weight * (relief * height + HEIGHT_FLOOR)`; what it keeps is
    `weight * max(0, 1 - hardness * (1 - tallness / the tallest))`, and a texel's entries are then made to sum to 1.
    """
    for t in range(texels):
        start, stop = texel_entry[t], texel_entry[t + 1]
        if stop - start == 1:
            continue
        tallest = np.float32(1e-12)
        for e in range(start, stop):
            h = F0
            for s in range(entries_i[ENTRY_FIRST, e], entries_i[ENTRY_FIRST, e + 1]):
                h += samples_f[SHARE, s] * height[s]
            relief = np.float32(layers_f[entries_i[ENTRY_LAYER, e], RELIEF])
            tallness = entries_f[ENTRY_WEIGHT, e] * (relief * h + np.float32(HEIGHT_FLOOR))
            entries_f[ENTRY_TALLNESS, e] = tallness
            tallest = max(tallest, tallness)
        inverse_tallest = F1 / tallest
        whole = F0
        for e in range(start, stop):
            hardness = np.float32(layers_f[entries_i[ENTRY_LAYER, e], HARDNESS])
            short = (tallest - entries_f[ENTRY_TALLNESS, e]) * inverse_tallest
            kept = entries_f[ENTRY_WEIGHT, e] * max(F0, F1 - hardness * short)
            entries_f[ENTRY_WEIGHT, e] = kept
            whole += kept
        whole = F1 / whole
        for e in range(start, stop):
            kept = entries_f[ENTRY_WEIGHT, e] * whole
            for s in range(entries_i[ENTRY_FIRST, e], entries_i[ENTRY_FIRST, e + 1]):
                samples_f[SHARE, s] *= kept


@kernel
def drop_hidden(texels, texel_entry, entries_i, samples_f, samples_i, rows, row, texel_sample, layers_f, relief):
    """Close the gaps that samples of no weight leave, and note each texel's first sample; return how many stay.

    rows[row : row + 4] are the channels read so far; `relief` becomes each sample's relief.
    """
    kept = 0
    for t in range(texels):
        texel_sample[t] = kept
        for e in range(texel_entry[t], texel_entry[t + 1]):
            layer_relief = np.float32(layers_f[entries_i[ENTRY_LAYER, e], RELIEF])
            for s in range(entries_i[ENTRY_FIRST, e], entries_i[ENTRY_FIRST, e + 1]):
                share = samples_f[SHARE, s]
                if share <= 0:
                    continue
                relief[kept] = layer_relief
                if kept != s:
                    samples_f[SHARE, kept] = share
                    samples_f[U, kept] = samples_f[U, s]
                    samples_f[V, kept] = samples_f[V, s]
                    samples_f[LEVEL_FRACTION, kept] = samples_f[LEVEL_FRACTION, s]
                    samples_i[SLICE, kept] = samples_i[SLICE, s]
                    samples_i[LEVEL, kept] = samples_i[LEVEL, s]
                    samples_i[PLANE, kept] = samples_i[PLANE, s]
                    for channel in range(row, row + 4):
                        rows[channel, kept] = rows[channel, s]
                kept += 1
    texel_sample[texels] = kept
    return kept


@inlined
def _upright(plane, dx, dy, dz, nx, ny, nz):
    """Turn detail, given in a plane's own tangent space, onto the surface normal; return it in world space.

    The plane's outward axis A is turned onto the normal N along the shortest arc and the detail d goes with it:
    d' = d - (A + N) (d . (A + N)) / (1 + A . N) + 2 N (d . A)   (reoriented normals, Barre-Brisebois and Hill 2012)
    """
    if plane == 0:
        s = F1 if nx >= 0 else -F1
        wx, wy, wz = s * dz, dy, -s * dx
        hx, hy, hz = s + nx, ny, nz
        cosine = abs(nx)
    elif plane == 1:
        s = F1 if ny >= 0 else -F1
        wx, wy, wz = dx, s * dz, -s * dy
        hx, hy, hz = nx, s + ny, nz
        cosine = abs(ny)
    else:
        s = F1 if nz >= 0 else -F1
        wx, wy, wz = s * dx, dy, s * dz
        hx, hy, hz = nx, ny, s + nz
        cosine = abs(nz)
    along = (wx * hx + wy * hy + wz * hz) / (F1 + cosine)
    twice = dz + dz
    return wx - hx * along + nx * twice, wy - hy * along + ny * twice, wz - hz * along + nz * twice


@kernel
def resolve(
    first, texels, texel_sample, samples_f, samples_i, role_row, rows, relief, normals, tangents, world_normals, out
):
    """Mix the samples of each texel into `out` (texels, OUTPUTS) float32, all linear; normals are made unit."""
    red, green, blue = rows[role_row[0]], rows[role_row[1]], rows[role_row[2]]
    slope_x, slope_y = rows[role_row[3]], rows[role_row[4]]
    rough = rows[role_row[6]]
    specular_r, specular_g, specular_b = rows[role_row[7]], rows[role_row[8]], rows[role_row[9]]
    occlusion, height = rows[role_row[10]], rows[role_row[11]]
    two = np.float32(2.0)
    for t in range(texels):
        p = first + t
        r = g = b = ro = sr = sg = sb = oc = he = F0
        xx = xy = xz = yx = yy = yz = zx = zy = zz = F0
        for s in range(texel_sample[t], texel_sample[t + 1]):
            w = samples_f[SHARE, s]
            r += w * red[s]
            g += w * green[s]
            b += w * blue[s]
            ro += w * rough[s]
            sr += w * specular_r[s]
            sg += w * specular_g[s]
            sb += w * specular_b[s]
            oc += w * occlusion[s]
            he += w * relief[s] * height[s]
            dx = two * slope_x[s] - F1
            dy = two * slope_y[s] - F1
            square = dx * dx + dy * dy
            dz = math.sqrt(max(F0, F1 - square))
            if square > F1:
                w = w / math.sqrt(square)
            plane = samples_i[PLANE, s]
            if plane == 1:
                yx += w * dx
                yy += w * dy
                yz += w * dz
            elif plane == 0:
                xx += w * dx
                xy += w * dy
                xz += w * dz
            else:
                zx += w * dx
                zy += w * dy
                zz += w * dz
        nx, ny, nz = normals[p, 0], normals[p, 1], normals[p, 2]
        wx = wy = wz = F0
        if yx != 0 or yy != 0 or yz != 0:
            wx, wy, wz = _upright(1, yx, yy, yz, nx, ny, nz)
        if xx != 0 or xy != 0 or xz != 0:
            ax, ay, az = _upright(0, xx, xy, xz, nx, ny, nz)
            wx, wy, wz = wx + ax, wy + ay, wz + az
        if zx != 0 or zy != 0 or zz != 0:
            ax, ay, az = _upright(2, zx, zy, zz, nx, ny, nz)
            wx, wy, wz = wx + ax, wy + ay, wz + az
        if not world_normals:
            bx, by, bz = _bitangent(normals, tangents, p)
            tx, ty, tz = tangents[p, 0], tangents[p, 1], tangents[p, 2]
            wx, wy, wz = (wx * tx + wy * ty + wz * tz, wx * bx + wy * by + wz * bz, wx * nx + wy * ny + wz * nz)
        length = math.sqrt(wx * wx + wy * wy + wz * wz)
        if length > np.float32(1e-6):
            unit = F1 / length
            wx, wy, wz = wx * unit, wy * unit, wz * unit
        elif world_normals:
            wx, wy, wz = nx, ny, nz
        else:
            wx, wy, wz = F0, F0, F1
        out[t, 0], out[t, 1], out[t, 2] = r, g, b
        out[t, 3], out[t, 4], out[t, 5] = wx, wy, wz
        out[t, 6] = ro
        out[t, 7], out[t, 8], out[t, 9] = sr, sg, sb
        out[t, 10], out[t, 11] = oc, he


@inlined
def _byte(value):
    return np.uint8(min(max(value, F0), F1) * np.float32(255.0) + HALF)


@kernel
def encode(first, texels, blended, encode_table, diffuse, normal, roughness, specular, occlusion, height):
    """Store blended texels by the convention of each role: colour as sRGB bytes, data as bytes, height as 16 bits."""
    top = np.float32(encode_table.shape[0] - 1)
    for t in range(texels):
        p = first + t
        for c in range(3):
            diffuse[p, c] = encode_table[int(min(max(blended[t, DIFFUSE + c], F0), F1) * top + HALF)]
            specular[p, c] = encode_table[int(min(max(blended[t, SPECULAR + c], F0), F1) * top + HALF)]
            normal[p, c] = _byte(HALF * blended[t, NORMAL + c] + HALF)
        roughness[p] = _byte(blended[t, ROUGHNESS])
        occlusion[p] = _byte(blended[t, OCCLUSION])
        height[p] = np.uint16(min(max(blended[t, HEIGHT], F0), F1) * np.float32(65535.0) + HALF)


@kernel
def blend_block(
    first, last, positions, normals, tangents, footprints, layer_index, layer_weight, layers_f, layers_i,
    texels, is_colour, side_bits, level_start, levels, decode, role_row, height_array, world_normals,
    samples_f, samples_i, entries_f, entries_i, rows, relief, texel_entry, texel_sample, out
):  # fmt: skip
    """Blend points `first` to `last` into out[: last - first]."""
    count = last - first
    n = expand(
        first, last, positions, normals, tangents, footprints, layer_index, layer_weight, layers_f, layers_i, levels,
        samples_f, samples_i, entries_f, entries_i, texel_entry,
    )  # fmt: skip
    padded = _pad(samples_f, samples_i, n)
    _sample_array(
        padded, texels[height_array], is_colour[height_array], side_bits, level_start, levels, decode,
        samples_f, samples_i, rows, 4 * height_array,
    )  # fmt: skip
    weigh_by_height(count, texel_entry, entries_f, entries_i, samples_f, layers_f, rows[role_row[HEIGHT]])
    n = drop_hidden(
        count, texel_entry, entries_i, samples_f, samples_i, rows, 4 * height_array, texel_sample, layers_f, relief
    )
    padded = _pad(samples_f, samples_i, n)
    for a in range(texels.shape[0]):
        if a != height_array:
            _sample_array(
                padded, texels[a], is_colour[a], side_bits, level_start, levels, decode,
                samples_f, samples_i, rows, 4 * a,
            )  # fmt: skip
    resolve(
        first, count, texel_sample, samples_f, samples_i, role_row, rows, relief, normals, tangents, world_normals, out
    )
