"""Another picture in the place of a plate's."""

from collections.abc import Sequence
from pathlib import Path

from kobrel.errors import KobrelError
from kobrel.plan.pictures.plates import Plate, PlatePicture
from kobrel.plan.plates.replacing import picture_for, with_picture
from kobrel.session.commands.plates.placing import allow
from kobrel.session.session import Session


def read(session: Session, plate: Plate, path: Path) -> PlatePicture | None:
    """The picture of a file that a person chose for a plate; why not is said."""
    allow(session, [path])
    try:
        return picture_for(plate, path)
    except KobrelError as error:
        session.say(str(error))
        return None


def replace(session: Session, plates: Sequence[Plate], picture: PlatePicture, stretch: bool = True) -> None:
    """Let plates show another picture; see :func:`kobrel.plan.plates.replacing.with_picture`."""
    name, which = Path(picture.path).name, plates[0].name if len(plates) == 1 else f"{len(plates)} plates"
    session.edit(f"Replace the picture of {which}", with_picture(session.plan, plates, picture, stretch))
    session.say(f"{which} now {'shows' if len(plates) == 1 else 'show'} {name}.")
