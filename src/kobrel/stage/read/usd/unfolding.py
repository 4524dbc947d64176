"""How much a USD file unfolds to when all that it draws in is put together, counted before USD does so."""

from bisect import bisect_left
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field
from pathlib import Path

from pxr import Sdf

from kobrel.errors import SceneError

MOST_PRIMS = 2_000_000
"""Parts that a scene may unfold to."""
MOST_DEEP = 300
"""How deep parts may lie in one another."""
TOO_DEEP = f"its parts lie more than {MOST_DEEP} deep in one another."


@dataclass
class Specs:
    """The prims of a layer by path, in order; where some of them refer to, as layer and prim path; and the
    layers below it.
    """

    paths: list[str] = field(default_factory=list)
    arcs: list[tuple[str, tuple[str, str]]] = field(default_factory=list)
    below: list[str] = field(default_factory=list)


def prims_of(layer: Sdf.Layer) -> Iterable[Sdf.PrimSpec]:
    """All prims of a layer, those in its variants too."""
    waiting = list(layer.rootPrims)
    while waiting:
        spec = waiting.pop()
        yield spec
        waiting += spec.nameChildren
        waiting += [variant.primSpec for chosen in spec.variantSets for variant in chosen.variantList]


def specs_of(layer: Sdf.Layer, path: Path, meant: Callable[[str], str]) -> Specs:
    """What of a layer is counted.

    Parameters
    ----------
    path : of the scene
    meant : a path without the variables that it may be put together from

    Raises
    ------
    SceneError
        Its parts lie too deep.
    """
    found = Specs()

    def visit(where: Sdf.Path) -> None:
        if not (where.IsPrimPath() or where.IsPrimVariantSelectionPath()):
            return
        if where.pathElementCount > MOST_DEEP:
            raise SceneError(TOO_DEEP, file=path)
        spec = layer.GetPrimAtPath(where)
        if spec is None:
            return
        name = str(where)
        found.paths.append(name)
        for arc in _arcs(spec):
            asset = meant(arc.assetPath) if arc.assetPath else ""
            target = layer.ComputeAbsolutePath(asset) if asset else layer.identifier
            found.arcs.append((name, (target, str(arc.primPath) if arc.primPath else "")))

    layer.Traverse(Sdf.Path.absoluteRootPath, visit)
    found.below = [layer.ComputeAbsolutePath(made) for asset in layer.subLayerPaths if (made := meant(asset))]
    found.paths.sort()
    found.arcs.sort()
    return found


def _arcs(spec: Sdf.PrimSpec) -> list[Sdf.Reference]:
    arcs = []
    if spec.hasReferences:
        arcs += spec.referenceList.GetAddedOrExplicitItems()
    if spec.hasPayloads:
        arcs += spec.payloadList.GetAddedOrExplicitItems()
    return arcs


def unfolded(root: Sdf.Layer, known: Mapping[str, Specs]) -> int:
    """Parts of a layer when all that it refers to is drawn in; what refers to itself counts once."""
    counts: dict[tuple[str, str], int] = {}

    def within(layer: str, prim: str) -> tuple[int, list[tuple[str, str]]]:
        specs = known.get(layer)
        if specs is None:
            return 0, []
        low, high = prim, f"{prim}0" if prim else "0"  # "0" is the sign after "/"
        start, end = bisect_left(specs.paths, low), bisect_left(specs.paths, high)
        first, last = bisect_left(specs.arcs, (low,)), bisect_left(specs.arcs, (high,))
        targets = [target for _name, target in specs.arcs[first:last]]
        return end - start, targets + [(below, prim) for below in specs.below]

    waiting: list[tuple[tuple[str, str], bool]] = [((root.identifier, ""), False)]
    while waiting:
        place, ready = waiting.pop()
        own, targets = within(*place)
        if ready:
            counts[place] = min(own + sum(counts.get(target, 0) for target in targets), 2 * MOST_PRIMS)
        elif place not in counts:
            counts[place] = own
            waiting.append((place, True))
            waiting += [(target, False) for target in targets if target not in counts]
    return counts[root.identifier, ""]
