"""What ``import kobrel`` gives, for type checkers; it is loaded when it is first asked for."""

from kobrel.errors import KobrelError as KobrelError
from kobrel.pipeline import Project as Project
from kobrel.pipeline import Work as Work
from kobrel.pipeline import make as make
from kobrel.pipeline import open as open

__version__: str

def ignore_plugins() -> None: ...

__all__: list[str]
