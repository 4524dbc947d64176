"""What a USD file draws in, looked at before USD composes it: from where, and whether it can be read at all.

USD opens every layer that a file names while it composes it. So each is looked at before, and what may not
be read, or cannot be, is taken out of the layer that names it, in memory: references, payloads and layers
below, in all variants, and the files that values come from over time (value clips).
"""

import math
import os
import re
from collections import defaultdict
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from pxr import Sdf, Tf

from kobrel import trust
from kobrel.errors import KobrelError, SceneError
from kobrel.files import nesting, reason, require_file
from kobrel.stage.read.probe import require_opens
from kobrel.stage.read.usd.unfolding import (
    MOST_DEEP,
    MOST_PRIMS,
    TOO_DEEP,
    prims_of,
    specs_of,
    unfolded,
)
from kobrel.stage.scene import Progress

_MOST_LAYERS = 20_000
_CLIPS = "clips"
_RULE = ("templateStartTime", "templateEndTime", "templateStride")
_DAMAGED = "not readable as USD, it is damaged."


@dataclass(frozen=True, eq=False)
class Admitted:
    """What a file draws in and may.

    Parameters
    ----------
    layers : all of them, to be held while USD composes the file: it opens again what nobody holds
    told : what was left out, sentences
    """

    layers: tuple[Sdf.Layer, ...]
    told: tuple[str, ...]


def admit_layers(path: Path, progress: Progress) -> Admitted:
    """See to it that a file draws in nothing that may not be read.

    Raises
    ------
    SceneError
        The file itself cannot be opened, or it unfolds to more than can be read.
    """
    return _Gate(path, progress).admit()


class _Gate:
    def __init__(self, path: Path, progress: Progress) -> None:
        self._path, self._progress = path, progress
        self._layers: dict[str, Sdf.Layer] = {}
        self._refused: dict[str, str] = {}
        """What may not or cannot be read, by its place, and the sentence that is told of it."""
        self._named: dict[str, set[Any]] = defaultdict(set)
        """Every value of each variable that paths may be put together from."""

    def admit(self) -> Admitted:
        _require_sound(self._path)
        root = _fresh(str(self._path))
        if root is None:
            raise SceneError(
                "not readable as USD, it is damaged.", file=self._path, remedy="Export it again."
            )
        self._follow(root)
        for layer in list(self._layers.values()):  # by now all values of all variables are known
            self._take_out(layer)
        self._bound_clips()
        known = {name: specs_of(layer, self._path, self._meant) for name, layer in self._layers.items()}
        count = unfolded(root, known)
        if count > MOST_PRIMS:
            raise SceneError(
                f"its references unfold to more than {MOST_PRIMS:,} parts.", file=self._path,
                remedy="Export the scene with instances, or flat.",
            )  # fmt: skip
        return Admitted(tuple(self._layers.values()), tuple(dict.fromkeys(self._refused.values())))

    def _follow(self, root: Sdf.Layer) -> None:
        """Look at a layer and at all that it draws in."""
        waiting = [root]
        while waiting:
            layer = waiting.pop()
            if layer.identifier in self._layers:
                continue
            if len(self._layers) >= _MOST_LAYERS:
                raise SceneError(f"it draws in more than {_MOST_LAYERS} layers.", file=self._path)
            self._progress(f"Opening {self._path.name}", 0.0)
            self._layers[layer.identifier] = layer
            for name, value in dict(layer.expressionVariables).items():
                self._named[name].add(str(value))
            self._take_out_clips(layer)
            for _asset, where in self._dependencies(layer):
                if where and where not in self._layers and where not in self._refused:
                    found = self._opened(where)
                    waiting += [] if found is None else [found]

    def _dependencies(self, layer: Sdf.Layer) -> Iterator[tuple[str, str]]:
        """What a layer draws in, as it is written, and where that is; "" where that cannot be known."""
        for asset in filter(None, layer.GetCompositionAssetDependencies()):  # "" is the layer itself
            meant = self._meant(asset)
            yield asset, layer.ComputeAbsolutePath(meant) if meant else ""

    def _meant(self, asset: str) -> str:
        """A path without variables; "" if these have no value, or several."""
        if not Sdf.VariableExpression.IsExpression(asset):
            return asset
        known = {name: next(iter(values)) for name, values in self._named.items() if len(values) == 1}
        made = Sdf.VariableExpression(asset).Evaluate(known)
        whole = not made.errors and set(made.usedVariables) <= known.keys() and isinstance(made.value, str)
        return made.value if whole else ""

    def _opened(self, where: str) -> Sdf.Layer | None:
        """A layer that is drawn in, if it may be; a missing one is told when layers are put together."""
        file = _file_of(where)
        if not os.path.lexists(file):
            return None
        fault = self._fault_of(file)
        if not fault:
            try:
                return _fresh(where)
            except Tf.ErrorException:
                fault = "it is damaged."
        self._refused[where] = f"{where}: skipped, {fault}"
        return None

    def _fault_of(self, file: Path) -> str:
        """Why a file that is there is not read; "" if it is."""
        if not trust.is_allowed(file, self._path.parent):
            return trust.refusal(file)
        try:
            require_file(file, SceneError)
            _require_sound(file)
        except KobrelError as error:
            return error.what
        except OSError as error:
            return f"it cannot be read ({reason(error)})."
        return ""

    def _take_out(self, layer: Sdf.Layer) -> None:
        """Take out of a layer what it draws in and may not."""
        for asset, where in self._dependencies(layer):
            if not where:
                self._refused[asset] = f"{asset}: skipped, its variables have no value, or more than one."
            if not where or where in self._refused:
                layer.SetPermissionToEdit(True)
                layer.UpdateCompositionAssetDependency(asset, "")

    def _take_out_clips(self, layer: Sdf.Layer) -> None:
        """Take out sets of value clips that name what may not be read, or cannot be."""
        for spec in prims_of(layer):
            for key in [key for key in spec.ListInfoKeys() if key.lower().startswith("clip")]:
                sets = spec.GetInfo(key)
                if key != _CLIPS or not isinstance(sets, dict):
                    layer.SetPermissionToEdit(True)
                    spec.ClearInfo(key)  # an old way to name clips, which USD reads no more
                    continue
                kept = {name: told for name, told in sets.items() if self._are_readable(layer, told)}
                if len(kept) < len(sets):
                    layer.SetPermissionToEdit(True)
                    spec.SetInfo(key, kept)

    def _bound_clips(self) -> None:
        """Take out clips that are numbered by a rule, where it makes too many of them.

        Its start, end and step may stand in several layers, so all of these count together.
        """
        found: dict[str, list[float]] = {name: [] for name in _RULE}
        for layer in self._layers.values():
            for told in _clip_sets(layer):
                for name in _RULE:
                    if isinstance(told.get(name), int | float):
                        found[name].append(float(told[name]))
        starts, ends, steps = found.values()
        if not (starts and ends and steps):
            return
        step, span = min(steps), max(ends) - min(starts)
        finite = all(math.isfinite(value) for value in (*starts, *ends, *steps))
        if finite and step > 0 and span / step <= _MOST_LAYERS:
            return
        for layer in self._layers.values():
            for spec in prims_of(layer):
                sets = spec.GetInfo(_CLIPS) if spec.HasInfo(_CLIPS) else {}
                kept = {name: told for name, told in sets.items() if not set(_RULE) & set(told)}
                if len(kept) < len(sets):
                    layer.SetPermissionToEdit(True)
                    spec.SetInfo(_CLIPS, kept)
                    where = f"{layer.identifier}: value clips of {spec.path}"
                    self._refused[where] = (
                        f"{where}: skipped, their rule makes more than {_MOST_LAYERS} files."
                    )

    def _are_readable(self, layer: Sdf.Layer, told: object) -> bool:
        """Whether all files of a set of clips may be read, and can be."""
        if not isinstance(told, dict):
            return False
        whole = True
        for asset in _clip_files(layer, told):
            where = layer.ComputeAbsolutePath(asset) if not Sdf.VariableExpression.IsExpression(asset) else ""
            file = _file_of(where)
            if where and not os.path.lexists(file):
                continue
            fault = self._clip_fault(where, file) if where else "its name is put together from variables."
            if fault:
                self._refused[where or asset] = f"{where or asset}: skipped, {fault}"
                whole = False
        return whole

    def _clip_fault(self, where: str, file: Path) -> str:
        """Why a file of clips is not read; "" if it is."""
        try:
            return self._fault_of(file) or ("" if _fresh(where) is not None else "it is damaged.")
        except Tf.ErrorException:
            return "it is damaged."


def _clip_sets(layer: Sdf.Layer) -> Iterator[dict[str, Any]]:
    for spec in prims_of(layer):
        sets = spec.GetInfo(_CLIPS) if spec.HasInfo(_CLIPS) else {}
        yield from (told for told in sets.values() if isinstance(told, dict))


def _clip_files(layer: Sdf.Layer, told: dict[str, Any]) -> Iterator[str]:
    """The files of a set of value clips; of those with numbers in their names, all that are there."""
    named = [*(told.get("assetPaths") or ()), told.get("manifestAssetPath")]
    yield from (asset.path for asset in named if isinstance(asset, Sdf.AssetPath) and asset.path)
    template = told.get("templateAssetPath")
    if not isinstance(template, str) or not template:
        return
    yield template
    where = _file_of(layer.ComputeAbsolutePath(template))
    pattern = re.compile(
        "".join(r"-?\d+" if sign == "#" else re.escape(sign) for sign in re.split("(#)#*", where.name))
    )
    try:
        names = sorted(os.listdir(where.parent))
    except OSError:
        return
    yield from (str(where.parent / name) for name in names[:_MOST_LAYERS] if pattern.fullmatch(name))


def _file_of(where: str) -> Path:
    """The file of a layer, which may be one of several in a package."""
    return Path(Sdf.Layer.SplitIdentifier(where)[0].partition("[")[0])


def _fresh(where: str) -> Sdf.Layer | None:
    """A layer as it is on disk now; an older scene may still read from it."""
    known = Sdf.Layer.Find(where)
    if known is None:
        return Sdf.Layer.FindOrOpen(where)
    known.Reload(force=known.dirty)  # what was taken out of it may be allowed by now
    return known


def _require_sound(path: Path) -> None:
    """See that a layer can be opened without harm: text by its depth, all else in another process.

    Raises
    ------
    SceneError
        It cannot.
    """
    with path.open("rb") as file:
        if file.read(5) != b"#usda":
            require_opens("usd", path, _DAMAGED)
        elif nesting(file.read()) > 3 * MOST_DEEP:
            raise SceneError(TOO_DEEP, file=path)
