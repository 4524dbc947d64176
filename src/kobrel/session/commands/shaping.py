"""Commands for the iris: its shape, its mask, and the character of the lens."""

from pathlib import Path

from kobrel.plan.iris import MaskPicture, Outline, Stencil
from kobrel.plan.masks import mask_fault
from kobrel.session.needs import needs_now
from kobrel.session.numbers import Now
from kobrel.session.session import Session
from kobrel.session.settings import allow_chosen


def change_iris(session: Session, name: str, /, **changes: object) -> None:
    """Change fields of the shot's iris."""
    session.edit_shot(name, lambda shot: shot.replace(iris=shot.iris.replace(**changes)))


def change_character(session: Session, name: str, /, **changes: object) -> None:
    """Change fields of the lens's character."""
    session.edit_shot(name, lambda shot: shot.replace(flaws=shot.flaws.replace(**changes)))


@needs_now
def change_front_stop(session: Session, now: Now, **changes: object) -> None:
    """Change fields of the front stop, if there is one."""
    front = now.shot.flaws.front_stop
    if front is not None:
        change_character(session, "Front stop", front_stop=front.replace(**changes))


@needs_now
def change_mask(session: Session, now: Now, name: str, /, **changes: object) -> None:
    """Change fields of the mask, if there is one."""
    mask = now.shot.iris.mask
    if mask is not None:
        change_iris(session, name, mask=mask.replace(**changes))


@needs_now
def draw_mask(session: Session, now: Now, outline: Outline, name: str) -> None:
    """Draw a mask of another outline; what spoils the one before stays."""
    old = now.shot.iris.mask
    drawn = old if isinstance(old, Stencil) else Stencil()
    change_iris(session, name, mask=drawn.replace(outline=outline))


@needs_now
def put_picture(session: Session, now: Now, path: Path) -> None:
    """Put a picture in the iris as its mask, or say why it cannot be."""
    allow_chosen(session.settings, path)
    mask = MaskPicture(path=str(path.absolute()))
    fault = mask_fault(now.shot.iris.replace(mask=mask))
    if fault:
        session.say(fault)
    else:
        change_iris(session, f"Mask: {path.name}", mask=mask)


@needs_now
def write_text(session: Session, now: Now, text: str) -> None:
    """Take another text for a mask of text."""
    mask = now.shot.iris.mask
    if not isinstance(mask, Stencil) or text == mask.text:
        return
    if text.strip():
        change_mask(session, "Text of the mask", text=text)
    else:
        session.say("A mask of text needs a letter or a sign that can be seen.")
