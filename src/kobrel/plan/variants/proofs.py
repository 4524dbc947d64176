"""Proofs: pictures that were kept, what they differ in, and their settings taken back."""

from collections.abc import Callable, Iterable, Mapping, Sequence
from pathlib import Path
from typing import Any, Literal

from kobrel.errors import PlanError
from kobrel.optics.units import LengthUnit, Measure, format_lengths
from kobrel.plan.edit import unused, with_shot
from kobrel.plan.iris import IrisShape
from kobrel.plan.measure.camera import Camera
from kobrel.plan.model import ALT_FIELDS, Alt, Plan, Proof, Shot

Take = Literal["all", "lens", "stop", "focus", "iris", "exposure"]
TAKES: Mapping[Take, str] = {
    "all": "Everything", "lens": "Lens and sensor", "stop": "Stop", "focus": "Focus and marks",
    "iris": "Iris and character", "exposure": "Exposure",
}  # fmt: skip
"""What of a proof's settings can be taken back, and how it is called."""
Order = Literal["kept", "rating", "shot", "stop", "focus", "lens", "name"]
ORDERS: Mapping[Order, str] = {
    "kept": "By date added", "rating": "By rating", "shot": "By shot and frame", "stop": "By stop",
    "focus": "By focus", "lens": "By focal length", "name": "By name",
}  # fmt: skip
_KEYS: Mapping[Order, Callable[[Proof], Any]] = {
    "rating": lambda proof: -proof.rating,
    "shot": lambda proof: (proof.shot, proof.frame),
    "stop": lambda proof: proof.f_number,
    "focus": lambda proof: proof.focus_m,
    "lens": lambda proof: proof.focal_mm,
    "name": lambda proof: proof.name.casefold(),
}
SUFFIX = ".proofs"


def folder_of(plan_path: Path) -> Path:
    """The folder beside a plan that its proofs lie in.

    >>> folder_of(Path("/work/ferry.kobrel")).name
    'ferry.proofs'
    """
    return plan_path.with_suffix(SUFFIX)


def proof_of(
    shot: Shot, camera: Camera, frame: float, size: tuple[int, int], passes: int, **more: Any
) -> Proof:
    """A picture's proof, without a place on disk yet.

    Parameters
    ----------
    camera : of the shot at the frame
    size : width and height of the picture, pixels
    more : name, and what else is known
    """
    kept = Alt(name=shot.name, **{field: getattr(shot, field) for field in ALT_FIELDS})
    numbers = {
        "focal_mm": float(camera.focal_mm), "f_number": float(camera.f_number),
        "focus_m": float(camera.focus_m),
    }  # fmt: skip
    return Proof(
        shot=shot.name, frame=frame, kept=kept, width_px=size[0], height_px=size[1], passes=passes,
        **numbers, **{"name": "Proof", "path": "", **more},
    )  # fmt: skip


def added(plan: Plan, proofs: Iterable[Proof]) -> Plan:
    """The plan with proofs more; names that are taken get a number."""
    names = {proof.name for proof in plan.proofs}
    fresh = []
    for proof in proofs:
        name = unused(proof.name, names)
        names.add(name)
        fresh.append(proof.replace(name=name))
    return plan.replace(proofs=(*plan.proofs, *fresh))


def changed(plan: Plan, name: str, /, **changes: Any) -> Plan:
    """The plan with a proof renamed or rated.

    Raises
    ------
    PlanError
        It is to have no name, or one that is taken.
    """
    wanted = changes.get("name", name)
    if not wanted.strip():
        raise PlanError("A proof needs a name.")
    if wanted != name and plan.proof(wanted) is not None:
        raise PlanError(f"Another proof is called {wanted} already.")
    return plan.replace(
        proofs=tuple(proof.replace(**changes) if proof.name == name else proof for proof in plan.proofs)
    )


def removed(plan: Plan, names: Iterable[str]) -> Plan:
    """The plan without some proofs; their files stay where they are."""
    gone = set(names)
    return plan.replace(proofs=tuple(proof for proof in plan.proofs if proof.name not in gone))


def ordered(proofs: Sequence[Proof], order: Order) -> list[Proof]:
    """Proofs in an order; those alike stay as they were kept."""
    key = _KEYS.get(order)
    return list(proofs) if key is None else sorted(proofs, key=key)


def facts(proofs: Sequence[Proof], unit: LengthUnit | Measure = "m") -> list[dict[str, str]]:
    """What made each proof, in words by what they are about.

    Parameters
    ----------
    unit : of distances
    """
    focus = format_lengths([proof.focus_m for proof in proofs], unit)
    return [
        {
            "shot": f"shot {proof.shot}",
            "frame": f"frame {proof.frame:g}",
            "lens": f"{proof.focal_mm:.4g} mm",
            "stop": f"f/{proof.f_number:.3g}",
            "focus": f"focus {distance}",
            "sensor": f"{proof.kept.glass.sensor.width_mm:g} × {proof.kept.glass.sensor.height_mm:g} mm",
            "squeeze": f"squeeze {proof.kept.glass.squeeze:g}",
            "blades": blade_words(proof.kept.iris.blades),
            "iris": _iris(proof.kept.iris),
            "flaws": _character(proof),
            "exposure": f"view exposure {proof.shown_ev:+.2g} EV",
            "size": f"{proof.width_px} × {proof.height_px}",
            "passes": f"{proof.passes} samples",
        }
        for proof, distance in zip(proofs, focus, strict=True)
    ]


def blade_words(count: float) -> str:
    """The blades of an iris as they are called.

    >>> blade_words(7), blade_words(0)
    ('7 blades', 'round iris')
    """
    return f"{count:g} blades" if count else "round iris"


def _iris(shape: IrisShape) -> str:
    """What an iris is besides its blades, in a few words."""
    mask = {None: "", "picture": "mask", "drawn": "drawn mask"}[shape.mask.kind if shape.mask else None]
    parts = (
        f"roundness {shape.roundness:g}" if shape.blades and shape.roundness else "",
        f"edge {shape.rim:+g}" if shape.rim else "", mask,
    )  # fmt: skip
    return ", ".join(filter(None, parts))


def _character(proof: Proof) -> str:
    """Whether lens errors are on, and which."""
    flaws = proof.kept.flaws
    named = {
        "cat's eye": flaws.front_stop is not None, "fringes": flaws.colour_mm != 0,
        "swirl": flaws.swirl_mm != 0, "spherical": flaws.spherical_mm != 0,
    }  # fmt: skip
    return ", ".join(name for name, on in named.items() if on) or "no character"


def differences(proofs: Sequence[Proof], unit: LengthUnit | Measure = "m") -> list[str]:
    """What each proof has that not all have, and its name does not tell, in one line each; of a single one
    what matters most.
    """
    told = facts(proofs, unit)
    names = list(told[0]) if told else []
    telling = [name for name in names if len({fact[name] for fact in told}) > 1]
    if len(proofs) == 1:
        telling = ["lens", "stop", "focus"]
    return [
        "   ".join(fact[name] for name in telling if fact[name] and fact[name] not in proof.name)
        for proof, fact in zip(proofs, told, strict=True)
    ]


def taken(plan: Plan, shot_index: int, proof: Proof, what: Take) -> Plan:
    """The plan whose shot has the settings of a proof, or some of them."""
    shot, kept = plan.shots[shot_index], proof.kept
    glass = shot.glass
    changes: dict[str, Any] = {}
    if what == "all":
        changes = {field: getattr(kept, field) for field in ALT_FIELDS}
    elif what == "lens":
        changes = {
            "glass": kept.glass.replace(f_number=glass.f_number, criterion=glass.criterion),
            "ahead_m": kept.ahead_m, "keeps": kept.keeps,
        }  # fmt: skip
    elif what == "stop":
        changes = {"glass": glass.replace(f_number=kept.glass.f_number)}
    elif what == "focus":
        changes = {"marks": kept.marks}
    elif what == "iris":
        changes = {"iris": kept.iris, "flaws": kept.flaws}
    else:
        changes = {"exposure": kept.exposure}
    return with_shot(plan, shot_index, shot.replace(**changes))


def as_alt(plan: Plan, shot_index: int, proof: Proof) -> Plan:
    """The plan whose shot has the settings of a proof as an Alt of the proof's name."""
    shot = plan.shots[shot_index]
    name = unused(proof.name, [alt.name for alt in shot.alts])
    return with_shot(plan, shot_index, shot.replace(alts=(*shot.alts, proof.kept.replace(name=name))))
