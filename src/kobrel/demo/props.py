"""The things of Night Ferry as meshes, all made here from simple solids."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray

from kobrel.stage.scene import Mesh
from kobrel.stage.shapes import box, cone, cylinder, joined, lathe, limb, moved, plane, sphere

Array = NDArray[np.float64]


@dataclass(frozen=True)
class Piece:
    """A mesh with the name of its material."""

    name: str
    mesh: Mesh
    material: str


def between(start: ArrayLike, end: ArrayLike, radius: float, around: int = 10) -> Mesh:
    """A round bar from one point to another."""
    a, b = np.asarray(start, float), np.asarray(end, float)
    length = float(np.linalg.norm(b - a))
    bar = cylinder(radius, length, around)
    up = (b - a) / length
    side = np.cross([0.0, 0.0, 1.0] if abs(up[2]) < 0.9 else [1.0, 0.0, 0.0], up)
    side /= np.linalg.norm(side)
    frame = np.stack([side, up, np.cross(side, up)], axis=1)
    return Mesh((bar.points @ frame.T + (a + b) / 2).astype(np.float32), bar.triangles)


def sheet(width: float, length: float, repeat: tuple[float, float] = (1.0, 1.0)) -> Mesh:
    """A rectangle on the ground with texture coordinates, facing up."""
    flat = plane(width, length)
    corner_uv = np.array([[0, 1], [0, 0], [1, 0], [1, 1]], float) * repeat
    return Mesh(flat.points, flat.triangles, uv=corner_uv[flat.triangles].astype(np.float32))


def joined_sheets(sheets: list[Mesh]) -> Mesh:
    """Several sheets as one, with their texture coordinates."""
    whole = joined(*sheets)
    return Mesh(whole.points, whole.triangles, uv=np.concatenate([each.uv for each in sheets]))


def bollard() -> list[Piece]:
    """An iron bollard 0.62 m high."""
    profile = np.array(
        [[0, 0], [0.2, 0], [0.2, 0.05], [0.15, 0.09], [0.13, 0.4], [0.15, 0.46], [0.22, 0.5], [0.235, 0.56],
         [0.2, 0.61], [0, 0.62]]
    )  # fmt: skip
    return [Piece("Bollard", lathe(profile, 40), "iron")]


def lantern() -> list[Piece]:
    """A lantern 0.36 m high, standing at the origin."""
    posts = [
        between((0.075 * x, 0.04, 0.075 * z), (0.062 * x, 0.235, 0.062 * z), 0.006, 6)
        for x in (-1, 1)
        for z in (-1, 1)
    ]
    foot = lathe(np.array([[0, 0], [0.1, 0], [0.1, 0.025], [0.085, 0.04], [0, 0.042]]), 32, smooth=False)
    roof = lathe(
        np.array([[0, 0.23], [0.115, 0.23], [0.1, 0.25], [0.05, 0.29], [0.025, 0.315], [0, 0.32]]), 32
    )
    ring = torus(0.03, 0.005, 20, 8)
    flame = lathe(np.array([[0, 0.075], [0.016, 0.09], [0.02, 0.11], [0.013, 0.14], [0, 0.17]]), 16)
    glass = lathe(np.array([[0.055, 0.045], [0.062, 0.09], [0.062, 0.18], [0.052, 0.23]]), 32)
    return [
        Piece("Frame", joined(foot, *posts), "brass_dark"),
        Piece("Roof", roof, "brass_dark"),
        Piece("Ring", moved(ring, (0, 0.345, 0), turn_deg=(90, 0, 0)), "brass_dark"),
        Piece("Glass", glass, "lantern_glass"),
        Piece("Flame", flame, "flame"),
    ]


def torus(radius: float, thickness: float, around: int = 32, across: int = 12) -> Mesh:
    """A ring about the Y axis."""
    a = np.linspace(0, 2 * np.pi, around, endpoint=False)
    b = np.linspace(0, 2 * np.pi, across, endpoint=False)
    out = radius + thickness * np.cos(b)[None, :]
    points = np.stack(
        [
            out * np.cos(a)[:, None],
            np.broadcast_to(thickness * np.sin(b), (around, across)),
            -out * np.sin(a)[:, None],
        ],
        axis=-1,
    ).reshape(-1, 3)
    i, j = np.meshgrid(np.arange(around), np.arange(across), indexing="ij")
    ni, nj = (i + 1) % around, (j + 1) % across
    p, q, r, s = i * across + j, ni * across + j, ni * across + nj, i * across + nj
    triangles = np.concatenate(
        [np.stack([p, q, r], -1).reshape(-1, 3), np.stack([p, r, s], -1).reshape(-1, 3)]
    )
    return Mesh(points.astype(np.float32), triangles.astype(np.uint32), smooth=True)


def folded(profile: ArrayLike, depth: ArrayLike, seed: int, around: int = 72) -> Mesh:
    """Cloth about the Y axis that falls in folds.

    Parameters
    ----------
    profile : (n, 2) radii and heights from bottom to top
    depth : (n,) of the folds, as a part of the radius
    """
    radii, heights = np.asarray(profile, float).T
    random, turn = np.random.default_rng(seed), np.linspace(0, 2 * np.pi, around, endpoint=False)
    wave = sum(
        np.sin(count * turn[None, :] + random.uniform(0, 6.28) + heights[:, None] * random.uniform(-1.4, 1.4))
        / weight
        for count, weight in ((7, 1.6), (11, 1.3), (17, 2.2))
    )
    out = radii[:, None] * (1 + np.asarray(depth, float)[:, None] * wave)
    rows = np.stack(
        [out * np.cos(turn), np.broadcast_to(heights[:, None], out.shape), -out * np.sin(turn)], -1
    )
    return _grid(np.concatenate([rows, rows[:, :1]], axis=1), flip=True)


def hand(x: float, y: float, z: float) -> Mesh:
    """A hand that hangs, its back outward."""
    side = np.sign(x)
    palm = moved(sphere(0.045, 14), (x, y, z), (0.55, 1.1, 0.9))
    fingers = [
        limb(
            (x, y - 0.03, z + step), (x - 0.012 * side, y - 0.105 + 0.06 * abs(step), z + 1.15 * step), 0.0115
        )
        for step in (-0.027, -0.009, 0.009, 0.027)
    ]
    thumb = limb((x, y + 0.005, z + 0.035), (x - 0.012 * side, y - 0.045, z + 0.06), 0.0125)
    return joined(palm, *fingers, thumb)


def face() -> tuple[Mesh, Mesh]:
    """A head that looks toward +Z, and its eyes."""
    skull = moved(sphere(0.105, 36), (0, 1.66, 0.0), (0.86, 1.12, 1.0))
    jaw = moved(sphere(0.074, 24), (0, 1.585, 0.028), (0.94, 0.86, 0.98))
    nose = moved(sphere(0.019, 14), (0, 1.642, 0.108), (0.75, 1.5, 1.0))
    nostrils = [moved(sphere(0.011, 10), (x, 1.628, 0.106)) for x in (-0.012, 0.012)]
    brows = [moved(sphere(0.03, 14), (x, 1.682, 0.082), (1.1, 0.32, 0.5)) for x in (-0.036, 0.036)]
    cheeks = [moved(sphere(0.032, 14), (x, 1.63, 0.068), (1.0, 0.9, 0.8)) for x in (-0.045, 0.045)]
    lips = [moved(sphere(0.022, 12), (0, y, 0.092), (1.2, 0.34, 0.6)) for y in (1.596, 1.604)]
    ears = [moved(sphere(0.026, 14), (x, 1.648, -0.004), (0.4, 1.2, 0.8)) for x in (-0.092, 0.092)]
    neck = moved(cylinder(0.052, 0.14, 20), (0, 1.53, 0.0))
    eyes = joined(*(moved(sphere(0.0145, 14), (x, 1.666, 0.0835)) for x in (-0.034, 0.034)))
    return joined(skull, jaw, nose, *nostrils, *brows, *cheeks, *lips, *ears, neck), eyes


def person(coat: str, hat: str, height: float = 1.78, cap: bool = True) -> list[Piece]:
    """A standing person in a long coat, facing +Z, feet at the origin."""
    s = height / 1.78
    body = moved(
        folded(
            [(0.275, 0.3), (0.272, 0.32), (0.245, 0.55), (0.215, 0.8), (0.18, 0.99), (0.172, 1.05), (0.19, 1.18),
             (0.212, 1.3), (0.2, 1.4), (0.14, 1.475), (0.08, 1.52), (0.06, 1.53)],
            [0.075, 0.075, 0.06, 0.04, 0.022, 0.012, 0.014, 0.012, 0.01, 0.005, 0, 0], 3 if cap else 5,
        ), (0, 0, 0), (1.06, 1.0, 0.78),
    )  # fmt: skip
    belt = moved(torus(0.182, 0.016, 48, 8), (0, 1.03, 0), (1.06, 1.3, 0.8))
    lapels = [
        moved(box((0.075, 0.24, 0.012)), (x, 1.36, 0.158), turn_deg=(-14, 0, 16 * np.sign(x)))
        for x in (-0.05, 0.05)
    ]
    collar = folded([(0.14, 1.43), (0.135, 1.48), (0.118, 1.535), (0.1, 1.52)], [0.03, 0.03, 0.035, 0.02], 8)
    legs = [
        moved(
            folded([(0.082, 0.03), (0.085, 0.12), (0.076, 0.3), (0.08, 0.5)], [0.05, 0.04, 0.02, 0], 6),
            (x, 0, 0),
        )
        for x in (-0.1, 0.1)
    ]
    shoes = [moved(sphere(0.07, 20), (x, 0.045, 0.05), (0.78, 0.62, 1.75)) for x in (-0.1, 0.1)]
    arms, hands, cuffs = [], [], []
    for x in (-0.235, 0.235):
        elbow, wrist = (1.22 * x, 1.09, -0.02), (1.16 * x, 0.86, 0.1)
        arms += [
            moved(sphere(0.078, 20), (0.9 * x, 1.36, 0), (1.0, 0.9, 1.0)),
            limb((0.96 * x, 1.34, 0), elbow, 0.066),
        ]
        arms += [limb(elbow, wrist, 0.058)]
        cuffs.append(between((1.165 * x, 0.885, 0.085), (1.15 * x, 0.84, 0.112), 0.062, 20))
        hands.append(hand(1.14 * x, 0.79, 0.125))
    head, eyes = face()
    buttons = [
        moved(sphere(0.014, 12), (x, y, 0.185 - 0.06 * abs(1.1 - y)), (1, 1, 0.5))
        for x in (-0.05, 0.05) for y in (1.26, 1.14, 0.93, 0.82)
    ]  # fmt: skip
    scarf = moved(torus(0.088, 0.034, 36, 12), (0, 1.515, 0.0), (1.05, 0.9, 1.0), (8, 0, 0))
    pieces = [
        Piece("Coat", joined(body, *arms, *cuffs, collar, *lapels, belt), coat),
        Piece("Scarf", scarf, "scarf" if not cap else hat),
        Piece("Legs", joined(*legs, *shoes), "boots"),
        Piece("Head", head, "skin"),
        Piece("Eyes", eyes, "eyes"),
        Piece("Hands", joined(*hands), "skin"),
        Piece("Buttons", joined(*buttons), "buttons"),
    ]
    if cap:
        crown = lathe(
            np.array(
                [[0.1, 1.705], [0.106, 1.722], [0.128, 1.765], [0.13, 1.782], [0.11, 1.795], [0, 1.802]]
            ),
            40,
        )
        peak = moved(cylinder(0.098, 0.01, 32), (0, 1.708, 0.07), (0.98, 1, 0.95), (14, 0, 0))
        beard = [
            moved(sphere(0.066, 24), (0, 1.575, 0.048), (1.06, 0.95, 0.9)),
            moved(sphere(0.03, 14), (0, 1.614, 0.092), (1.35, 0.4, 0.6)),
            *(moved(sphere(0.035, 14), (x, 1.61, 0.02), (0.5, 1.3, 1.0)) for x in (-0.075, 0.075)),
        ]
        badge = moved(sphere(0.014, 12), (0, 1.738, 0.116), (1, 1, 0.5))
        pieces += [
            Piece("Cap", joined(crown, peak), hat), Piece("Beard", joined(*beard), "beard"),
            Piece("Badge", badge, "buttons"),
        ]  # fmt: skip
    else:
        brim = lathe(
            np.array([[0.098, 1.702], [0.15, 1.692], [0.182, 1.7], [0.182, 1.708], [0.112, 1.716], [0.102, 1.79],
                      [0.08, 1.815], [0, 1.808]]), 48,
        )  # fmt: skip
        hair = moved(sphere(0.104, 28), (0, 1.652, -0.028), (0.92, 1.0, 0.92))
        pieces += [Piece("Hat", brim, hat), Piece("Hair", hair, "wood_dark")]
    return [Piece(p.name, moved(p.mesh, scale=s), p.material) for p in pieces]


def waves() -> Mesh:
    """The water's surface from the origin toward -Z, in ripples that are finest where it is nearest."""
    ahead = np.concatenate([np.linspace(0, 24, 130), 24 + np.geomspace(0.2, 330, 120)])
    across = np.linspace(-1, 1, 170)
    z, u = np.meshgrid(-ahead, across, indexing="ij")
    x = u * (26 + 1.6 * -z)
    random, height = np.random.default_rng(21), np.zeros_like(x)
    for length in (0.42, 0.55, 0.7, 0.95, 1.3, 1.9, 3.1, 5.2):
        for turn in random.uniform(-1.1, 1.1, 2):
            wave = 2 * np.pi / length * (x * np.sin(turn) + z * np.cos(turn)) + random.uniform(0, 6.28)
            height += 0.0042 * length**0.85 * np.sin(wave)
    return _grid(np.stack([x, height, z], -1), flip=True)


def grained(mesh: Mesh, metres: float = 0.9, turn: bool = False) -> Mesh:
    """A mesh with texture coordinates from the side that each triangle faces most."""
    corners = mesh.points[mesh.triangles].astype(float)
    normal = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    facing = np.argmax(np.abs(normal), axis=1)
    uv = np.empty((len(corners), 3, 2))
    for axis, (u, v) in enumerate(((2, 1), (0, 2), (0, 1))):
        chosen = facing == axis
        uv[chosen] = corners[chosen][:, :, [v, u] if turn else [u, v]] / metres
    return Mesh(mesh.points, mesh.triangles, mesh.normals, mesh.smooth, uv.astype(np.float32))


def booth() -> list[Piece]:
    """A ticket booth, 1.9 m wide, its window facing +Z."""
    walls = [
        moved(box((1.9, 1.0, 0.06)), (0, 0.5, 0.7)),
        moved(box((0.35, 1.0, 0.06)), (-0.775, 1.5, 0.7)),
        moved(box((0.35, 1.0, 0.06)), (0.775, 1.5, 0.7)),
        moved(box((1.9, 0.35, 0.06)), (0, 2.175, 0.7)),
        moved(box((1.9, 2.35, 0.06)), (0, 1.175, -0.7)),
        moved(box((0.06, 2.35, 1.4)), (-0.92, 1.175, 0)),
        moved(box((0.06, 2.35, 1.4)), (0.92, 1.175, 0)),
    ]
    planks = [moved(box((0.02, 1.0, 0.02)), (x, 0.5, 0.735)) for x in np.linspace(-0.9, 0.9, 11)]
    bars = [moved(box((0.03, 1.0, 0.03)), (x, 1.5, 0.7)) for x in (-0.2, 0.2)]
    return [
        Piece("Walls", joined(*walls, *planks), "booth_paint"),
        Piece("Window", moved(box((1.2, 1.0, 0.01)), (0, 1.5, 0.68)), "window_glow"),
        Piece("Bars", joined(*bars, moved(box((1.3, 0.05, 0.28)), (0, 1.0, 0.78))), "wood_dark"),
        Piece("Roof", joined(moved(box((2.3, 0.08, 1.0)), (0, 2.55, 0.42), turn_deg=(22, 0, 0)),
                             moved(box((2.3, 0.08, 1.0)), (0, 2.55, -0.42), turn_deg=(-22, 0, 0))), "roof"),
        Piece("Sign", moved(box((1.2, 0.22, 0.03)), (0, 2.2, 0.75)), "sign"),
    ]  # fmt: skip


def ferry() -> list[Piece]:
    """A small ferry, 15 m long, its bow toward +X, waterline at the origin."""
    stations = np.linspace(-7.5, 7.5, 25)
    bow = np.clip((stations - 2.0) / 5.5, 0, 1)
    stern = np.clip((-stations - 5.5) / 2.0, 0, 1)
    half = 2.1 * (1 - bow**2.2) * (1 - 0.25 * stern**2)
    sheer = 1.15 + 0.5 * bow**2 + 0.12 * stern
    rows = [(0.55, -0.4), (0.86, 0.25), (1.0, 1.0), (1.0, 1.06)]
    rings = [np.stack([stations, np.where(h > 0.9, sheer * h, h), half * w], -1) for w, h in rows]
    sides = []
    for sign in (1, -1):
        grid = np.stack([ring * [1, 1, sign] for ring in rings])
        sides.append(_grid(grid, flip=sign < 0))
    deck = _grid(
        np.stack(
            [np.stack([stations, sheer * 0.92, half], -1), np.stack([stations, sheer * 0.92, -half], -1)]
        )
    )
    cabin = moved(box((6.2, 1.9, 2.7)), (-1.4, 2.0, 0))
    bridge = moved(box((2.2, 1.5, 2.3)), (0.2, 3.65, 0))
    windows = [moved(box((0.62, 0.62, 2.74)), (x, 2.25, 0)) for x in np.linspace(-4.0, 1.2, 6)]
    front = [moved(box((2.24, 0.6, 0.5)), (0.2, 3.85, z)) for z in (-0.7, 0.0, 0.7)]
    rails = [
        between((x, 1.1, z), (x, 2.0, z), 0.025, 6) for x in (-7, -6, -5, 2.2, 3.2, 4.2) for z in (-1.5, 1.5)
    ]
    rail_tops = [
        between((a, 2.0, z), (b, 2.0, z), 0.025, 6) for a, b in ((-7, -5), (2.2, 4.2)) for z in (-1.5, 1.5)
    ]
    return [
        Piece("Hull", joined(*sides), "hull"),
        Piece("Deck", deck, "deck"),
        Piece("Cabin", joined(cabin, bridge), "cabin"),
        Piece("CabinRoof", joined(moved(box((6.6, 0.1, 3.0)), (-1.4, 2.98, 0)), moved(box((2.6, 0.1, 2.6)), (0.2, 4.43, 0))), "roof"),
        Piece("Windows", joined(*windows), "window_glow"),
        Piece("BridgeWindows", joined(*front), "window_dim"),
        Piece("Funnel", moved(lathe(np.array([[0, -0.9], [0.42, -0.9], [0.36, 0.9], [0, 0.9]]), 28, False), (-3.2, 3.9, 0)), "funnel"),
        Piece("Rails", joined(*rails, *rail_tops, between((0.2, 4.4, 0), (0.2, 6.2, 0), 0.035, 8)), "rail"),
        Piece("MastLight", moved(sphere(0.09, 14), (0.2, 6.25, 0)), "mast_light"),
    ]  # fmt: skip


def _grid(rows: Array, flip: bool = False) -> Mesh:
    """A mesh through (r, c, 3) points."""
    r, c = rows.shape[:2]
    i = np.arange(r * c).reshape(r, c)
    first = np.stack([i[:-1, :-1], i[:-1, 1:], i[1:, 1:]], -1).reshape(-1, 3)
    second = np.stack([i[:-1, :-1], i[1:, 1:], i[1:, :-1]], -1).reshape(-1, 3)
    triangles = np.concatenate([first, second])
    return Mesh(
        rows.reshape(-1, 3).astype(np.float32),
        np.ascontiguousarray(triangles[:, ::-1] if flip else triangles, np.uint32),
        smooth=True,
    )


def shore(seed: int = 7) -> Mesh:
    """Low hills across the water, 320 m wide, seen from +Z."""
    random = np.random.default_rng(seed)
    x = np.linspace(-160, 160, 161)
    height = (
        5
        + 3.5 * np.sin(x / 37 + 1)
        + 2.2 * np.sin(x / 13)
        + 0.7 * random.standard_normal(len(x)).cumsum() / 6
    )
    height = np.clip(height, 1.5, None)
    front = np.stack([x, np.full_like(x, -1.2), np.zeros_like(x)], -1)
    top = np.stack([x, height, np.full_like(x, -18.0)], -1)
    return _grid(np.stack([front, top]), flip=False)


def compass() -> list[Piece]:
    """A brass compass 0.11 m across, lying open at the origin, its lid behind."""
    case = lathe(
        np.array([[0, 0], [0.05, 0], [0.055, 0.004], [0.055, 0.02], [0.052, 0.024], [0.048, 0.024], [0.047, 0.016], [0, 0.016]]),
        72,
    )  # fmt: skip
    lid = lathe(
        np.array(
            [[0, 0], [0.05, 0], [0.055, 0.003], [0.055, 0.009], [0.051, 0.009], [0.05, 0.005], [0, 0.005]]
        ),
        72,
    )
    face = Mesh(plane(1, 1).points, plane(1, 1).triangles)
    turn = np.linspace(0, 2 * np.pi, 65)[:-1]
    rim = np.stack([0.0465 * np.cos(turn), np.full(64, 0.0165), -0.0465 * np.sin(turn)], -1)
    points = np.concatenate([[[0, 0.0165, 0]], rim]).astype(np.float32)
    triangles = np.array([[0, 1 + i, 1 + (i + 1) % 64] for i in range(64)], np.uint32)
    uv = (points[:, [0, 2]] * [1, -1] / 0.093 + 0.5).astype(np.float32)
    face = Mesh(points, triangles, uv=uv[triangles])
    north = Mesh(np.array([[-0.004, 0.0195, 0], [0.004, 0.0195, 0], [0, 0.0195, -0.038], [0, 0.0215, 0]], np.float32),
                 np.array([[0, 3, 2], [3, 1, 2], [0, 1, 3]], np.uint32))  # fmt: skip
    south = moved(north, scale=(1, 1, -1))
    south = Mesh(south.points, np.ascontiguousarray(south.triangles[:, ::-1]))
    ticks = [moved(box((0.0012, 0.001, 0.006)), (0.05 * np.sin(a), 0.0243, -0.05 * np.cos(a)), turn_deg=(0, -np.degrees(a), 0))
             for a in np.linspace(0, 2 * np.pi, 24, endpoint=False)]  # fmt: skip
    hinge = moved(cylinder(0.004, 0.03, 16), (0, 0.022, -0.057), turn_deg=(0, 0, 90))
    return [
        Piece("Case", case, "brass"),
        Piece("Lid", moved(lid, (0, 0.024, -0.059), turn_deg=(68, 0, 0)), "brass"),
        Piece("Face", face, "compass_face"),
        Piece("North", moved(north, turn_deg=(0, 28, 0)), "needle_red"),
        Piece("South", moved(south, turn_deg=(0, 28, 0)), "needle_steel"),
        Piece("Pin", moved(cone(0.003, 0.008, 16), (0, 0.0215, 0)), "brass"),
        Piece("Ticks", joined(*ticks, hinge), "brass_dark"),
    ]


def crate(width: float, height: float, depth: float) -> list[Piece]:
    """A slatted wooden crate standing at the origin."""
    slats = [
        moved(box((width, height / 5 * 0.9, 0.02)), (0, height * (i + 0.5) / 5, z))
        for i in range(5)
        for z in (-depth / 2, depth / 2)
    ]
    ends = [
        moved(box((0.02, height / 5 * 0.9, depth)), (x, height * (i + 0.5) / 5, 0))
        for i in range(5)
        for x in (-width / 2, width / 2)
    ]
    posts = [
        moved(box((0.05, height, 0.05)), (x, height / 2, z))
        for x in (-width / 2 + 0.03, width / 2 - 0.03)
        for z in (-depth / 2 + 0.03, depth / 2 - 0.03)
    ]
    top = [
        moved(box((width, 0.02, depth / 6 * 0.92)), (0, height, depth * ((i + 0.5) / 6 - 0.5)))
        for i in range(6)
    ]
    return [
        Piece("Crate", grained(joined(*slats, *ends, *posts)), "crate"),
        Piece("Top", grained(joined(*top)), "crate"),
    ]


def rope_coil() -> list[Piece]:
    """A coil of rope on the ground."""
    rings = [
        moved(torus(0.24 - 0.012 * i, 0.022, 40, 8), (0.01 * (i % 2), 0.022 + 0.036 * i, 0.006 * (i % 3)))
        for i in range(5)
    ]
    return [Piece("Rope", joined(*rings), "rope")]
