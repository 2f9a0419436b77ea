"""Compiled kernels of the smile: raw SVI slices that price no butterfly and do not cross in time."""

from __future__ import annotations

import math
from typing import Any, NamedTuple

import numpy as np

from flinch.core.arrays import FloatArray, IntArray
from flinch.core.compiled import njit

RAW, SURFACE = 0, 1
RAW_FROM, SHARED_FROM = 6, 6
"""Strikes from which on an expiry has a shape of its own, and from which on a name has one for all its expiries."""
MOST_STEPS = 70
STEEPEST = 2.0
"""Total variance rises at most by this per unit of log-moneyness in the wings (Lee 2004, moments of the price)."""
WHOLE_LINE = np.linspace(-6.0, 6.0, 97)
"""Where a slice is looked at for butterflies, in standard deviations from the forward."""
_VERTEX = np.sinh(np.linspace(-6.0, 6.0, 81))
"""Where a slice is looked at about its vertex, in units of its width there: curvature changes within a few, however narrow."""
_LOOKED_AT = np.linspace(-6.0, 6.0, 25)
_LEAN = 1e-3
_BIG = 1e30


class Quotes(NamedTuple):
    """Quoted options of all names: log-moneyness `k`, total variance `w` and `weight`, shape (rows,), by strike within an expiry;
    those of expiry j are `row_start[j]` to `row_start[j + 1]`, and `theta[j]` is its total variance near the forward."""

    row_start: IntArray
    k: FloatArray
    w: FloatArray
    weight: FloatArray
    theta: FloatArray


class Rows(NamedTuple):
    """What a slice is fitted to: moneyness `z` in deviations and variance `v` in their squares, with weights, and the variance of
    the expiry before there (`floor`). Rows of several expiries are told apart by `bounds`; `deviation` has one entry for each."""

    z: Any
    v: Any
    weight: Any
    floor: Any
    bounds: Any
    deviation: Any


class Simplex(NamedTuple):
    """Room for a search in two parameters: three points, and what the objective is there."""

    points: Any
    values: Any


@njit(cache=True, nogil=True, error_model="numpy", inline="always")
def total_variance(a: float, b: float, rho: float, m: float, s: float, k: float) -> float:
    """Raw SVI at log-moneyness k."""
    away = k - m
    return a + b * (rho * away + math.sqrt(away * away + s * s))


@njit(cache=True, nogil=True, error_model="numpy", inline="always")
def density_factor(a: float, b: float, rho: float, m: float, s: float, k: float) -> float:
    """Durrleman's g: the risk-neutral density at k has its sign (Gatheral & Jacquier 2014, lemma 2.2)."""
    away = k - m
    root = math.sqrt(away * away + s * s)
    w = a + b * (rho * away + root)
    first = b * (rho + away / root)
    second = b * s * s / (root * root * root)
    half = 1.0 - 0.5 * k * first / w
    return half * half - 0.25 * first * first * (1.0 / w + 0.25) + 0.5 * second


@njit(cache=True, nogil=True, error_model="numpy", inline="always")
def _solved(w0: float, wx: float, wxx: float, wv: float, wvx: float) -> tuple[float, float]:
    """Least squares in a + t x, from weighted sums; no slope where x does not vary."""
    det = w0 * wxx - wx * wx
    if not det > 1e-14 * w0 * wxx:
        return wv / w0, 0.0
    return (wv * wxx - wx * wvx) / det, (w0 * wvx - wx * wv) / det


@njit(cache=True, nogil=True, error_model="numpy")
def _raw_slice(z: Any, v: Any, weight: Any, m: float, s: float, steepest: float, out: Any) -> float:
    """Best a, b, rho for given m and s: linear least squares in a + d y + c sqrt(y^2 + 1), y = (z - m) / s.

    With a >= 0, |d| <= c and c + |d| <= steepest * s, which bounds both wings: Zeliade Systems (2009), "Quasi-explicit
    calibration of Gatheral's SVI model". Returns the weighted mean squared residual.
    """
    w0 = wy = wh = wyy = wyh = whh = wv = wvy = wvh = wvv = 0.0
    for i in range(z.size):
        y = (z[i] - m) / s
        h = math.sqrt(y * y + 1.0)
        g, u = weight[i], v[i]
        w0 += g
        wy += g * y
        wh += g * h
        wyy += g * y * y
        wyh += g * y * h
        whh += g * h * h
        wv += g * u
        wvy += g * u * y
        wvh += g * u * h
        wvv += g * u * u
    top = steepest * s
    best = _BIG
    ba = bd = bc = 0.0
    for case in range(10):
        a = d = c = 0.0
        if case == 0:
            # Inside: Cramer's rule.
            det = w0 * (wyy * whh - wyh * wyh) - wy * (wy * whh - wyh * wh) + wh * (wy * wyh - wyy * wh)
            if not abs(det) > 1e-14:
                continue
            a = (wv * (wyy * whh - wyh * wyh) - wy * (wvy * whh - wyh * wvh) + wh * (wvy * wyh - wyy * wvh)) / det
            d = (w0 * (wvy * whh - wvh * wyh) - wv * (wy * whh - wyh * wh) + wh * (wy * wvh - wvy * wh)) / det
            c = (w0 * (wyy * wvh - wyh * wvy) - wy * (wy * wvh - wh * wvy) + wv * (wy * wyh - wyy * wh)) / det
            if a < 0.0:
                continue
        elif case == 1:
            # On the floor, a = 0.
            det = wyy * whh - wyh * wyh
            if not abs(det) > 1e-14:
                continue
            d, c = (wvy * whh - wvh * wyh) / det, (wyy * wvh - wyh * wvy) / det
        else:
            # On an edge, c = c0 + t and d = sign (d0 + t) or sign (d0 - t): without a floor, or on it.
            sign = 1.0 if case % 2 == 0 else -1.0
            steep = case >= 6
            c0, step = (0.5 * top, -1.0) if steep else (0.0, 1.0)
            wx, wxx = wh + step * sign * wy, whh + 2 * step * sign * wyh + wyy
            at = sign * c0
            wu = wv - c0 * wh - at * wy
            wux = wvh + step * sign * wvy - c0 * (whh + step * sign * wyh) - at * (wyh + step * sign * wyy)
            if case % 4 < 2:
                a, t = _solved(w0, wx, wxx, wu, wux)
            else:
                t = wux / wxx if wxx > 0.0 else 0.0
            t = min(max(t, 0.0), 0.5 * top)
            a = max((wu - t * wx) / w0, 0.0) if case % 4 < 2 else 0.0
            c, d = c0 + t, at + step * sign * t
        if c < 0.0 or abs(d) > c * (1.0 + 1e-12) or c + abs(d) > top * (1.0 + 1e-12):
            continue
        rss = (
            wvv
            - 2 * (a * wv + d * wvy + c * wvh)
            + a * a * w0
            + d * d * wyy
            + c * c * whh
            + 2 * (a * d * wy + a * c * wh + d * c * wyh)
        )
        if rss < best:
            best, ba, bd, bc = rss, a, d, c
    out[0], out[1], out[2], out[3], out[4] = ba, bc / s, (bd / bc if bc > 0.0 else 0.0), m, s
    return max(best, 0.0) / w0


@njit(cache=True, nogil=True, error_model="numpy")
def _surface_slice(z: Any, v: Any, weight: Any, rho: float, phi: float, deviation: float, out: Any) -> float:
    """A slice of the SSVI surface for given rho and phi: free of butterflies (Gatheral & Jacquier 2014, theorem 4.2)."""
    top = bottom = total = square = 0.0
    for i in range(z.size):
        y = phi * z[i]
        shape = 0.5 * (1.0 + rho * y + math.sqrt((y + rho) ** 2 + 1.0 - rho * rho))
        top += weight[i] * v[i] * shape
        bottom += weight[i] * shape * shape
        total += weight[i]
        square += weight[i] * v[i] * v[i]
    lean = 1.0 + abs(rho)
    theta = min(top / bottom, 3.999 / (phi * phi * lean), 3.999 / (phi * deviation * lean))
    out[0] = 0.5 * theta * (1.0 - rho * rho)
    out[1] = 0.5 * theta * phi
    out[2] = rho
    out[3] = -rho / phi
    out[4] = math.sqrt(1.0 - rho * rho) / phi
    return max(square - 2 * theta * top + theta * theta * bottom, 0.0) / total


@njit(cache=True, nogil=True, error_model="numpy")
def _objective(kind: int, p: float, q: float, rows: Rows, out: Any) -> float:
    """Misfit at two shape parameters, with a price on butterflies and on falling below the expiry before. An SSVI shape may serve
    several expiries."""
    z, v, weight, floor, bounds, deviation = rows
    if kind == RAW:
        if not (abs(p) < 6.0 and abs(q) < 5.0):
            return _BIG
        value = _raw_slice(z, v, weight, p, math.exp(q), STEEPEST / deviation[0], out)
    else:
        if not (abs(p) < 8.0 and abs(q) < 5.0):
            return _BIG
        value = 0.0
        for e in range(deviation.size):
            own = slice(bounds[e], bounds[e + 1])
            part = _surface_slice(z[own], v[own], weight[own], 0.995 * math.tanh(p), math.exp(q), deviation[e], out)
            value += part * (bounds[e + 1] - bounds[e])
        value /= z.size
        if deviation.size > 1:
            return float(value)
    bad = 0.0
    for i in range(z.size):
        short = floor[i] - total_variance(out[0], out[1], out[2], out[3], out[4], z[i])
        if short > 0.0:
            bad += short * short
        if kind == RAW:
            g = scaled_density(out, deviation[0], z[i])
            if g < 0.0:
                bad += g * g
    bad /= z.size
    if kind == RAW:
        for at in _LOOKED_AT:
            g = scaled_density(out, deviation[0], at)
            if g < 0.01:
                bad += (g - 0.01) ** 2
    return float(value + bad)


@njit(cache=True, nogil=True, error_model="numpy", inline="always")
def scaled_density(p: Any, deviation: float, z: float) -> float:
    """`density_factor` of a slice whose moneyness is in deviations and whose variance is in their squares."""
    square = deviation * deviation
    return density_factor(square * p[0], deviation * p[1], p[2], deviation * p[3], deviation * p[4], deviation * z)


@njit(cache=True, nogil=True, error_model="numpy")
def _search(kind: int, start: Any, rows: Rows, room: Simplex, out: Any) -> float:
    """Nelder & Mead (1965) in two parameters; leaves the best slice in `out`."""
    points, values = room
    for i in range(3):
        points[i, 0] = start[0] + (0.5 if i == 1 else 0.0)
        points[i, 1] = start[1] + (0.5 if i == 2 else 0.0)
        values[i] = _objective(kind, points[i, 0], points[i, 1], rows, out)
    for _ in range(MOST_STEPS):
        best, worst = 0, 0
        for i in range(1, 3):
            if values[i] < values[best]:
                best = i
            if values[i] >= values[worst]:
                worst = i
        middle = 3 - best - worst
        if values[worst] - values[best] <= 1e-4 * values[best] + 1e-12:
            break
        cx = 0.5 * (points[best, 0] + points[middle, 0])
        cy = 0.5 * (points[best, 1] + points[middle, 1])
        dx, dy = cx - points[worst, 0], cy - points[worst, 1]
        tried = _objective(kind, cx + dx, cy + dy, rows, out)
        scale = 1.0
        if tried < values[best]:
            further = _objective(kind, cx + 2 * dx, cy + 2 * dy, rows, out)
            if further < tried:
                tried, scale = further, 2.0
        elif tried >= values[middle]:
            scale = 0.5 if tried < values[worst] else -0.5
            tried = _objective(kind, cx + scale * dx, cy + scale * dy, rows, out)
        if tried < values[worst]:
            points[worst, 0], points[worst, 1], values[worst] = cx + scale * dx, cy + scale * dy, tried
            continue
        for i in range(3):
            if i != best:
                points[i, 0] = 0.5 * (points[i, 0] + points[best, 0])
                points[i, 1] = 0.5 * (points[i, 1] + points[best, 1])
                values[i] = _objective(kind, points[i, 0], points[i, 1], rows, out)
    best = 0
    for i in range(1, 3):
        if values[i] < values[best]:
            best = i
    start[0], start[1] = points[best, 0], points[best, 1]
    return _objective(kind, start[0], start[1], rows, out)


@njit(cache=True, nogil=True, error_model="numpy")
def sound(p: Any, z: Any, deviation: float) -> bool:
    """No negative density at the quoted strikes, between them, about the vertex, or anywhere within six deviations, and wings not
    too steep."""
    if deviation * p[1] * (1.0 + abs(p[2])) > STEEPEST * (1.0 + 1e-9):
        return False
    for at in WHOLE_LINE:
        if not scaled_density(p, deviation, at) >= 0.0:
            return False
    for step in _VERTEX:
        at = p[3] + step * p[4]
        if abs(at) < 6.0 and not scaled_density(p, deviation, at) >= 0.0:
            return False
    for i in range(z.size):
        if scaled_density(p, deviation, z[i]) < 0.0:
            return False
        if i > 0:
            for part in (0.25, 0.5, 0.75):
                if scaled_density(p, deviation, z[i - 1] + part * (z[i] - z[i - 1])) < 0.0:
                    return False
    return True


@njit(cache=True, nogil=True, error_model="numpy")
def _flatten(p: Any, z: Any, deviation: float) -> None:
    """Bend a slice less and less about the forward until it is sound: a flat one is."""
    for _ in range(60):
        if sound(p, z, deviation):
            return
        level = total_variance(p[0], p[1], p[2], p[3], p[4], 0.0)
        p[1] *= 0.9
        p[0] = level - (total_variance(p[0], p[1], p[2], p[3], p[4], 0.0) - p[0])
    p[0], p[1] = total_variance(p[0], p[1], p[2], p[3], p[4], 0.0), 0.0


@njit(cache=True, nogil=True, error_model="numpy")
def _leaning(z: Any, v: Any, weight: Any, floor: Any, p: Any) -> tuple[Any, Any, Any, Any]:
    """The quotes, and beyond them a faint pull towards the slice `p`: where nothing is quoted, nothing else decides."""
    count = z.size
    zs, vs, ws, fs = np.empty(count + 12), np.empty(count + 12), np.empty(count + 12), np.zeros(count + 12)
    zs[:count], vs[:count], ws[:count], fs[:count] = z, v, weight, floor
    for step in range(-6, 7):
        if z[0] - 0.5 <= step <= z[-1] + 0.5 or count == zs.size:
            continue
        zs[count] = step
        vs[count] = total_variance(p[0], p[1], p[2], p[3], p[4], float(step))
        ws[count] = _LEAN / (vs[count] * vs[count])
        count += 1
    return zs[:count], vs[:count], ws[:count], fs[:count]


@njit(cache=True, nogil=True, error_model="numpy")
def _shared_shape(first: int, last: int, quotes: Quotes, room: Simplex, p: Any, shape: Any) -> bool:
    """The SSVI shape that fits all expiries of a name best, each at its own level; false with too few strikes altogether."""
    row_start, k, w, weight, theta = quotes
    start, end = row_start[first], row_start[last]
    if end - start < SHARED_FROM:
        return False
    z, v, g = np.empty(end - start), np.empty(end - start), np.empty(end - start)
    bounds, deviation = np.empty(last - first + 1, dtype=np.int64), np.empty(last - first)
    expiries = 0
    bounds[0] = 0
    few = False
    for e in range(first, last):
        count = row_start[e + 1] - row_start[e]
        few = few or count < RAW_FROM
        if count < 2 or not theta[e] > 0.0:
            continue
        at = bounds[expiries]
        deviation[expiries] = math.sqrt(theta[e])
        total = 0.0
        for i in range(row_start[e], row_start[e + 1]):
            total += weight[i]
        for i in range(count):
            z[at + i] = k[row_start[e] + i] / deviation[expiries]
            v[at + i] = w[row_start[e] + i] / theta[e]
            g[at + i] = weight[row_start[e] + i] / total
        expiries += 1
        bounds[expiries] = at + count
    rows = bounds[expiries]
    if not few or expiries < 2 or rows < SHARED_FROM:
        return False
    shape[0], shape[1] = -0.3, -0.5
    together = Rows(z[:rows], v[:rows], g[:rows], np.zeros(rows), bounds, deviation[:expiries])
    _search(SURFACE, shape, together, room, p)
    return True


@njit(cache=True, nogil=True, error_model="numpy")
def fit_names(first: int, last: int, expiry_start: IntArray, quotes: Quotes, out: FloatArray) -> None:
    """Fit the expiries of names `first` to `last` - 1, each name's in order of time.

    Expiries of name i are expiry_start[i] to expiry_start[i + 1]. `out` (5, expiries) gets a, b, rho, m, sigma; NaN where not
    fitted.
    """
    row_start, k, w, weight, theta = quotes
    room, start = Simplex(np.empty((3, 2)), np.empty(3)), np.empty(2)
    p, smooth, shape, alone = np.empty(5), np.empty(5), np.empty(2), np.zeros(1)
    for name in range(first, last):
        before = -1
        shared = _shared_shape(expiry_start[name], expiry_start[name + 1], quotes, room, p, shape)
        for e in range(expiry_start[name], expiry_start[name + 1]):
            rows = slice(row_start[e], row_start[e + 1])
            count = row_start[e + 1] - row_start[e]
            for i in range(5):
                out[i, e] = math.nan
            if count < 1 or not theta[e] > 0.0:
                continue
            deviation = math.sqrt(theta[e])
            z, v, g = k[rows] / deviation, w[rows] / theta[e], weight[rows]
            g = g / g.sum()
            low, high = k[rows][0], k[rows][count - 1]
            floor = np.zeros(count)
            if before >= 0:
                # Where the expiry before is quoted as well; beyond, its curve is a guess.
                q = out[:, before]
                least, most = k[row_start[before]], k[row_start[before + 1] - 1]
                for i in range(count):
                    there = k[row_start[e] + i]
                    if least <= there <= most:
                        floor[i] = total_variance(q[0], q[1], q[2], q[3], q[4], there) / theta[e]
            alone[0] = deviation
            bounds = np.array([0, count])
            if count < RAW_FROM and shared:
                # Too few strikes to tell a shape: that of the name's other expiries, at their own level.
                if np.abs(z).min() > 1.5:
                    continue
                _surface_slice(z, v, g, 0.995 * math.tanh(shape[0]), math.exp(shape[1]), deviation, p)
            elif count < 3:
                if np.abs(z).min() > 0.5:
                    continue
                p[0], p[1], p[2], p[3], p[4] = (g * v).sum(), 0.0, 0.0, 0.0, 1.0
            else:
                start[0], start[1] = -0.3, -0.5
                _search(SURFACE, start, Rows(z, v, g, floor, bounds, alone), room, p)
                if count >= RAW_FROM:
                    smooth[:] = p
                    zs, vs, gs, fs = _leaning(z, v, g, floor, p)
                    start[0], start[1] = 0.0, 0.0
                    _search(RAW, start, Rows(zs, vs, gs, fs, bounds, alone), room, p)
                    if not sound(p, z, deviation):
                        p[:] = smooth
            # What is left of a crossing is lifted away, at the strikes of both expiries.
            if before >= 0:
                short = 0.0
                for i in range(count):
                    short = max(short, floor[i] - total_variance(p[0], p[1], p[2], p[3], p[4], z[i]))
                for i in range(row_start[before], row_start[before + 1]):
                    if low <= k[i] <= high:
                        earlier = total_variance(q[0], q[1], q[2], q[3], q[4], k[i]) / theta[e]
                        short = max(short, earlier - total_variance(p[0], p[1], p[2], p[3], p[4], k[i] / deviation))
                p[0] += short
            _flatten(p, z, deviation)
            out[0, e], out[1, e], out[2, e] = theta[e] * p[0], deviation * p[1], p[2]
            out[3, e], out[4, e] = deviation * p[3], deviation * p[4]
            before = e
