"""Reading colour-keyed maps, and giving old layers new homes, as loops."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.compiler import inlined, kernel

F0, F1 = np.float32(0.0), np.float32(1.0)
_WIDEST = 10  # texels around one that are searched for the regions whose edge it is
MARGIN = _WIDEST + 2  # texels around one that it depends on
_MOST_NEAR = 8
EXACT = np.float32(0.25 / 255)  # so little off a key colour no file of 8 bits can be


@kernel
def nearest_key(texels, keys, tolerance, label):
    """Fill which key colour (L, 3) each texel (H, W, 3) has, within a tolerance per channel, or -1."""
    for r in range(texels.shape[0]):
        for c in range(texels.shape[1]):
            best, found = tolerance, -1
            for key in range(keys.shape[0]):
                off = F0
                for channel in range(3):
                    off = max(off, abs(texels[r, c, channel] - keys[key, channel]))
                if off <= best and (off < best or found < 0):
                    best, found = off, key
            label[r, c] = found


@kernel
def solid(label, out):
    """Mark the texels that lie in some 3 x 3 block of one label: the inside of a region and its border, no edge's blend."""
    rows, columns = label.shape
    for r in range(1, rows - 1):
        for c in range(1, columns - 1):
            own = label[r, c]
            same = own >= 0
            for near in range(9):
                same = same and label[r - 1 + near // 3, c - 1 + near % 3] == own
            if same:
                for near in range(9):
                    out[r - 1 + near // 3, c - 1 + near % 3] = True


@inlined
def _near(label, is_solid, r, c, reach, only_solid, found):
    """List the labels around a texel; return how many."""
    rows, columns = label.shape
    count = 0
    for y in range(max(0, r - reach), min(rows, r + reach + 1)):
        for x in range(max(0, c - reach), min(columns, c + reach + 1)):
            own = label[y, x]
            if own < 0 or (only_solid and not is_solid[y, x]):
                continue
            known = False
            for at in range(count):
                known = known or found[at] == own
            if not known and count < found.shape[0]:
                found[count] = own
                count += 1
    return count


@inlined
def _is_beside_blends(label, r, c):
    """Whether a texel beside this one has no colour of the key: edges are antialiased here."""
    rows, columns = label.shape
    for y in range(max(0, r - 1), min(rows, r + 2)):
        for x in range(max(0, c - 1), min(columns, c + 2)):
            if label[y, x] < 0:
                return True
    return False


@inlined
def _off(texel, keys, one, two, three, a, b):
    """Largest difference, over the channels, of a texel and a mixture: a of one, b of two, the rest of three."""
    worst = F0
    for channel in range(3):
        mixed = a * keys[one, channel] + b * keys[two, channel] + (F1 - a - b) * keys[three, channel]
        worst = max(worst, abs(texel[channel] - mixed))
    return worst


@inlined
def _has_exact_neighbour(texels, keys, label, r, c):
    """Whether one of the eight texels around has exactly the same colour of the key."""
    rows, columns = label.shape
    own = label[r, c]
    for y in range(max(0, r - 1), min(rows, r + 2)):
        for x in range(max(0, c - 1), min(columns, c + 2)):
            is_alike = (y != r or x != c) and label[y, x] == own
            if is_alike and _off(texels[y, x], keys, own, own, own, F1, F0) < EXACT:
                return True
    return False


@inlined
def _best_pair(texel, keys, found, count, which, share):
    """Fit a mixture of two of the labels found; return how far off it is."""
    best = np.float32(1e9)
    for i in range(count):
        for j in range(i + 1, count):
            one, two = found[i], found[j]
            along, length = F0, F0
            for channel in range(3):
                way = keys[two, channel] - keys[one, channel]
                along += way * (texel[channel] - keys[one, channel])
                length += way * way
            part = min(max(along / length, F0), F1)
            off = _off(texel, keys, one, two, two, F1 - part, part)
            if off < best:
                best = off
                which[0], which[1], which[2] = one, two, one
                share[0], share[1], share[2] = F1 - part, part, F0
    return best


@inlined
def _best_triple(texel, keys, found, count, which, share):
    """Fit a mixture of three, where three regions meet, by least squares; return how far off it is."""
    best = np.float32(1e9)
    for i in range(count):
        for j in range(i + 1, count):
            for m in range(j + 1, count):
                one, two, three = found[i], found[j], found[m]
                aa, ab, bb, at, bt = F0, F0, F0, F0, F0
                for channel in range(3):
                    a = keys[one, channel] - keys[three, channel]
                    b = keys[two, channel] - keys[three, channel]
                    t = texel[channel] - keys[three, channel]
                    aa, ab, bb, at, bt = aa + a * a, ab + a * b, bb + b * b, at + a * t, bt + b * t
                whole = aa * bb - ab * ab
                if whole <= np.float32(1e-6) * aa * bb:
                    continue
                a, b = (at * bb - bt * ab) / whole, (bt * aa - at * ab) / whole
                a = min(max(a, F0), F1)
                b = min(max(b, F0), F1 - a)
                off = _off(texel, keys, one, two, three, a, b)
                if off < best:
                    best = off
                    which[0], which[1], which[2] = one, two, three
                    share[0], share[1], share[2] = a, b, F1 - a - b
    return best


class Mixtures(NamedTuple):
    """Of which key colours texels are mixed (H, W, 3), with what shares (H, W, 3), how far off that is (H, W), and which texels
    have exactly a colour of the key and were read as a mixture of others all the same (H, W)."""

    which: NDArray[np.int64]
    share: NDArray[np.float32]
    off: NDArray[np.float32]
    mixed: NDArray[np.bool_]


@kernel
def unmix(texels, keys, label, is_solid, tolerance, found, mixtures):
    """Fill which key colours each texel mixes, their shares, and how far off that is.

    The inside of a region is its own colour, and so is a texel of the key with none but such around it (hard maps are read as
    they are), or one that has exactly a colour of the key and a neighbour of the same. Any other texel is a mixture of two
    regions that lie around it, if that fits: an antialiased edge may pass through a third key colour and is still an edge.
    Else it is its own colour if that is in the key (a line too thin to be a region), else a mixture of whatever lies around.
    Mark as `mixed` the texels that have exactly a colour of the key and were read as a mixture of others all the same.
    """
    which, share, off, mixed = mixtures
    for r in range(texels.shape[0]):
        for c in range(texels.shape[1]):
            own = label[r, c]
            which[r, c, 0], which[r, c, 1], which[r, c, 2] = max(own, 0), max(own, 0), max(own, 0)
            share[r, c, 0], share[r, c, 1], share[r, c, 2] = F1, F0, F0
            off[r, c] = F0
            if is_solid[r, c] or (own >= 0 and not _is_beside_blends(label, r, c)):
                continue
            texel, w, s = texels[r, c], which[r, c], share[r, c]
            is_exact = own >= 0 and _off(texel, keys, own, own, own, F1, F0) < EXACT
            if is_exact and _has_exact_neighbour(texels, keys, label, r, c):
                continue
            best = np.float32(1e9)
            for reach in range(1, _WIDEST + 1):
                if best > tolerance:
                    best = _best_pair(texel, keys, found, _near(label, is_solid, r, c, reach, True, found), w, s)
            if best > tolerance and own >= 0:
                w[0], w[1], w[2] = own, own, own
                s[0], s[1], s[2] = F1, F0, F0
                best = F0
            for reach in range(1, _WIDEST + 1):
                if best > tolerance:
                    count = _near(label, is_solid, r, c, reach, False, found)
                    best = _best_pair(texel, keys, found, count, w, s)
                    if best > tolerance:
                        best = _best_triple(texel, keys, found, count, w, s)
            off[r, c] = best
            mixed[r, c] = is_exact and max(s[0], s[1], s[2]) < F1


@kernel
def rehome(layers, weights, home, new_layers, new_weights):
    """Fill kept weights (N, K) of new layers from those of old ones, by the number of each old one's home; same ones add up."""
    keep = layers.shape[1]
    for p in range(layers.shape[0]):
        count = 0
        for at in range(keep):
            new_layers[p, at] = 0
            new_weights[p, at] = 0
        for at in range(keep):
            if weights[p, at] == 0:
                continue
            to = home[layers[p, at]]
            index = count
            for before in range(count):
                if new_layers[p, before] == to:
                    index = before
            new_layers[p, index] = to
            new_weights[p, index] += weights[p, at]
            count = max(count, index + 1)
