"""What a USD file draws in, looked at before it is composed: how much, and from where."""

import os
from bisect import bisect_left
from dataclasses import dataclass, field
from pathlib import Path

from pxr import Sdf

from kobrel import trust
from kobrel.errors import SceneError
from kobrel.files import nesting, require_file
from kobrel.stage.read.probe import require_opens
from kobrel.stage.scene import Progress

MOST_PRIMS = 2_000_000
"""Parts that a scene may unfold to."""
MOST_DEEP = 300
"""How deep parts may lie in one another."""
_MOST_LAYERS = 20_000
_TOO_DEEP = f"its parts lie more than {MOST_DEEP} deep in one another."


@dataclass
class _Specs:
    """The prims of a layer by path, in order, and where some of them refer to: layer and prim path."""

    paths: list[str] = field(default_factory=list)
    arcs: list[tuple[str, tuple[str, str]]] = field(default_factory=list)


def forbidden_layers(path: Path, progress: Progress) -> list[str]:
    """The layers that a file draws in from where it may not.

    Raises
    ------
    SceneError
        It cannot be opened, or it unfolds to more than can be read.
    """
    _require_sound(path)
    root = Sdf.Layer.FindOrOpen(str(path))
    if root is None:
        raise SceneError("not readable as USD, it is damaged.", file=path, remedy="Export the scene again.")
    outside: list[str] = []
    known: dict[str, _Specs] = {}
    waiting = [root]
    while waiting:
        layer = waiting.pop()
        if layer.identifier in known:
            continue
        if len(known) >= _MOST_LAYERS:
            raise SceneError(f"it draws in more than {_MOST_LAYERS} layers.", file=path)
        progress(f"Opening {path.name}", 0.0)
        known[layer.identifier] = _specs(layer, path)
        for asset in layer.GetCompositionAssetDependencies():
            where = layer.ComputeAbsolutePath(asset)
            file = Path(where.partition("[")[0])
            if not where or where in known or where in outside or not os.path.lexists(file):
                continue  # what is missing is told when the layers are put together
            if not trust.is_allowed(file, path.parent):
                outside.append(where)
                continue
            require_file(file, SceneError)
            _require_sound(file)
            if (found := Sdf.Layer.FindOrOpen(where)) is not None:
                waiting.append(found)
    count = _unfolded(root, known)
    if count > MOST_PRIMS:
        raise SceneError(
            f"its references unfold to more than {MOST_PRIMS:,} parts.", file=path,
            remedy="Export the scene with instances, or flat.",
        )  # fmt: skip
    return outside


def _require_sound(path: Path) -> None:
    """See that a layer can be opened without harm: text by its depth, all else in another process.

    Raises
    ------
    SceneError
        It cannot.
    """
    with path.open("rb") as file:
        if file.read(5) != b"#usda":
            require_opens("usd", path, "not readable as USD, it is damaged.")
        elif nesting(file.read()) > 3 * MOST_DEEP:
            raise SceneError(_TOO_DEEP, file=path)


def _specs(layer: Sdf.Layer, path: Path) -> _Specs:
    found = _Specs()

    def visit(where: Sdf.Path) -> None:
        if not (where.IsPrimPath() or where.IsPrimVariantSelectionPath()):
            return
        if where.pathElementCount > MOST_DEEP:
            raise SceneError(_TOO_DEEP, file=path)
        spec = layer.GetPrimAtPath(where)
        if spec is None:
            return
        name = str(where)
        found.paths.append(name)
        for arc in _arcs(spec):
            target = layer.ComputeAbsolutePath(arc.assetPath) if arc.assetPath else layer.identifier
            found.arcs.append((name, (target, str(arc.primPath) if arc.primPath else "")))

    layer.Traverse(Sdf.Path.absoluteRootPath, visit)
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


def _unfolded(root: Sdf.Layer, known: dict[str, _Specs]) -> int:
    """Parts of a layer when all that it refers to is drawn in; what refers to itself counts once."""
    counts: dict[tuple[str, str], int] = {}

    def within(layer: str, prim: str) -> tuple[int, list[tuple[str, str]]]:
        specs = known.get(layer)
        if specs is None:
            return 0, []
        low, high = prim, f"{prim}0" if prim else "0"  # "0" is the sign after "/"
        start, end = bisect_left(specs.paths, low), bisect_left(specs.paths, high)
        first, last = bisect_left(specs.arcs, (low,)), bisect_left(specs.arcs, (high,))
        return end - start, [target for _name, target in specs.arcs[first:last]]

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
