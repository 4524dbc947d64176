"""Commands for which parts of scenes are drawn."""

from kobrel.plan import edit
from kobrel.plan.model import Plan, SceneRef
from kobrel.session.session import Session
from kobrel.stage.stage import Place


def reference_of(plan: Plan, name: str) -> SceneRef | None:
    """A plan's scene by its name."""
    return next((scene for scene in plan.scenes if scene.name == name), None)


def set_shown(session: Session, place: Place, shown: bool) -> None:
    """Draw a node with all below it, or not."""
    reference = reference_of(session.plan, place.scene)
    if reference is not None:
        hidden = tuple(path for path in reference.hidden if path != place.path)
        hidden = hidden if shown else (*hidden, place.path)
        word = "Show" if shown else "Hide"
        session.edit(f"{word} {place.path}", edit.with_scene(session.plan, place.scene, hidden=hidden))


def isolate(session: Session, place: Place) -> None:
    """Hide all other nodes: those beside it and beside all above it, and other scenes' ones."""
    plan = session.plan
    for reference in plan.scenes:
        scene = session.stage.scenes.get(reference.name)
        if scene is None:
            continue
        chain = set()
        at = scene.find(place.path) if reference.name == place.scene else -1
        while at >= 0:
            chain.add(at)
            at = scene.nodes[at].parent
        hidden = tuple(
            node.path
            for index, node in enumerate(scene.nodes)
            if index not in chain
            and (node.parent < 0 or node.parent in chain)
            and node.parent != scene.find(place.path)
        )
        plan = edit.with_scene(plan, reference.name, hidden=hidden)
    session.edit(f"Isolate {place.path}", plan)
