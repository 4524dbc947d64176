"""How much light a glossy surface throws back: microfacets after Trowbridge and Reitz ("GGX").

Heights of the facets are correlated with what they hide (Heitz, "Understanding the Masking-Shadowing
Function", 2014), Fresnel's share is Schlick's. What light loses by meeting several facets is given back by
Turquin's rule ("Practical multiple scattering compensation for microfacet models", 2019), so that a white
metal in white surroundings is white.
"""

from functools import cache

import numpy as np
from numpy.typing import NDArray

from kobrel.compiled import kernel

SMOOTHEST = 0.03
SIZE = 96
_SAMPLES = 512
_HALF, _ONE, _TWO, _TINY = np.float32(0.5), np.float32(1), np.float32(2), np.float32(1e-12)


@kernel
def visible_facet(vx, vy, vz, alpha, u, w):  # type: ignore[no-untyped-def]
    """A facet that is seen from a direction, drawn as often as it is seen, in the surface's own axes, z
    outward (Heitz, "Sampling the GGX Distribution of Visible Normals", 2018).

    Parameters
    ----------
    vx, vy, vz : direction to the viewer, of unit length
    alpha : roughness squared
    u, w : two random numbers, 0 to 1
    """
    sx, sy, sz = alpha * vx, alpha * vy, vz
    long = np.sqrt(sx * sx + sy * sy + sz * sz)
    sx, sy, sz = sx / long, sy / long, sz / long
    level = sx * sx + sy * sy
    ax, ay = (-sy / np.sqrt(level), sx / np.sqrt(level)) if level > 1e-12 else (1.0, 0.0)
    bx, by, bz = -sz * ay, sz * ax, sx * ay - sy * ax
    out, turn = np.sqrt(u), 2.0 * np.pi * w
    p, q = out * np.cos(turn), out * np.sin(turn)
    side = 0.5 * (1.0 + sz)
    q = (1.0 - side) * np.sqrt(max(0.0, 1.0 - p * p)) + side * q
    o = np.sqrt(max(0.0, 1.0 - p * p - q * q))
    hx, hy = p * ax + q * bx + o * sx, p * ay + q * by + o * sy
    hz = max(1e-6, q * bz + o * sz)
    hx, hy = alpha * hx, alpha * hy
    long = np.sqrt(hx * hx + hy * hy + hz * hz)
    return hx / long, hy / long, hz / long


@kernel
def hidden(cosine, alpha):  # type: ignore[no-untyped-def]
    """Smith's measure of how much facets hide one another from a direction: his Lambda."""
    across = max(0.0, 1.0 - cosine * cosine) / max(cosine * cosine, 1e-9)
    return 0.5 * (np.sqrt(1.0 + alpha * alpha * across) - 1.0)


@kernel
def reflected(nv, nl, lv, alpha):  # type: ignore[no-untyped-def]
    """What facets throw from a light to the viewer, by the cosines between surface, light and viewer.

    Gives the density of facets times what is seen of them from both sides, over 4 (n.l)(n.v), times pi; and
    the share of grazing light, (1 - v.h)^5. What hides facets is Smith's without its roots (Hammon, "PBR
    Diffuse Lighting for GGX+Smith Microsurfaces", 2017).
    """
    a2, both = alpha * alpha, max(_TWO + _TWO * lv, _TINY)
    spread = (nl + nv) * (nl + nv) / both * (a2 - _ONE) + _ONE
    hides = _TWO * nl * nv * (_ONE - alpha) + alpha * (nl + nv)
    slant = _ONE - _HALF * np.sqrt(both)
    slant2 = slant * slant
    return a2 * _HALF / max(spread * spread * hides, _TINY), slant2 * slant2 * slant


@kernel
def _fill(table):  # type: ignore[no-untyped-def]
    size = table.shape[0]
    for i in range(size):
        rough = max(SMOOTHEST, (i + 0.0) / (size - 1))
        alpha = rough * rough
        for j in range(size):
            nv = max(1e-3, j / (size - 1))
            vx, vz = np.sqrt(1.0 - nv * nv), nv
            plain = grazing = 0.0
            for k in range(_SAMPLES):
                w = k * 0.6180339887498949
                hx, _hy, hz = visible_facet(vx, 0.0, vz, alpha, (k + 0.5) / _SAMPLES, w - np.floor(w))
                vh = vx * hx + vz * hz
                nl = 2.0 * vh * hz - vz
                if nl <= 0.0:
                    continue
                seen = (1.0 + hidden(nv, alpha)) / (1.0 + hidden(nv, alpha) + hidden(nl, alpha))
                edge = (1.0 - min(max(vh, 0.0), 1.0)) ** 5
                plain += seen * (1.0 - edge)
                grazing += seen * edge
            table[i, j, 0], table[i, j, 1] = plain / _SAMPLES, grazing / _SAMPLES


@cache
def table() -> NDArray[np.float64]:
    """What a glossy surface throws back of white surroundings, by its roughness and by the cosine to the
    viewer, both even from 0 to 1: (SIZE, SIZE, 2), for the share at right angles and for the rest.
    """
    made = np.zeros((SIZE, SIZE, 2))
    _fill(made)
    return made


@kernel
def thrown_back(sums, rough, cosine):  # type: ignore[no-untyped-def]
    """The nearest entry of :func:`table`."""
    last = sums.shape[0] - 1
    i, j = int(min(max(rough, 0.0), 1.0) * last + 0.5), int(min(max(cosine, 0.0), 1.0) * last + 0.5)
    return sums[i, j, 0], sums[i, j, 1]
