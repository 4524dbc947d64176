"""What is remembered from one start to the next: every key, its kind and its first value."""

import json
from collections.abc import Callable, MutableMapping
from pathlib import Path
from typing import Any, Generic, TypeVar

from kobrel import trust
from kobrel.plan.file import VERSIONS
from kobrel.session.store import FileStore

T = TypeVar("T")
Store = MutableMapping[str, str]
"""Where settings are kept: text by key."""


class Setting(Generic[T]):
    """One value that is remembered, as JSON under a key; what cannot be read counts as never set.

    Parameters
    ----------
    key : where it is kept
    start : its value until it is set; it also says which kind of value it is
    """

    def __init__(self, key: str, start: T) -> None:
        self.key, self.start = key, start

    def read(self, store: Store, name: str = "") -> T:
        """The value kept, of one thing by name if there are several."""
        kept = store.get(f"{self.key}{name}")
        if kept is None:
            return self.start
        try:
            value = json.loads(kept)
        except ValueError:
            return self.start
        kind = int | float if isinstance(self.start, float) else type(self.start)
        fits = isinstance(value, kind) and isinstance(value, bool) == isinstance(self.start, bool)
        return value if fits else self.start

    def write(self, store: Store, value: T, name: str = "") -> None:
        """Keep a value."""
        store[f"{self.key}{name}"] = json.dumps(value)


class Settings:
    """All settings, typed; read and written by name.

    >>> settings = Settings({})
    >>> settings.get(STOP_STEPS)
    'free'
    >>> settings.put(STOP_STEPS, "third")
    >>> settings.get(STOP_STEPS)
    'third'

    Parameters
    ----------
    store : where they are kept
    folder : of files that belong to the settings, such as presets
    state : folder for journals of unsaved work; without one no journal is kept
    """

    def __init__(self, store: Store | None = None, folder: Path = Path(), state: Path | None = None) -> None:
        self._store: Store = {} if store is None else store
        self.folder, self.state = folder, state

    def tell_with(self, told: Callable[[str], None]) -> None:
        """Tell so where settings cannot be kept."""
        if isinstance(self._store, FileStore):
            self._store.told = told

    def get(self, setting: Setting[T], name: str = "") -> T:
        """The value of a setting."""
        return setting.read(self._store, name)

    def put(self, setting: Setting[T], value: T, name: str = "") -> None:
        """Keep a value of a setting."""
        setting.write(self._store, value, name)

    def has(self, setting: Setting[Any], name: str = "") -> bool:
        """Whether a setting was ever set."""
        return f"{setting.key}{name}" in self._store


_FORMER_CARDS = {"Export": "Hand over"}
_FORMER_PAGES = {
    ("Block", "Scenes"): "Scene files", ("Block", "Light"): "Lighting", ("Tape", "Readings"): "Laser",
    ("Glass", "Light"): "Exposure", ("Glass", "Read"): "Depth of field", ("Glass", "Weigh"): "Trade-offs",
    ("Iris", "Flaws"): "Character", ("Iris", "Costs"): "Render cost", ("Pull", "Move"): "Marks",
    ("Pull", "Perform"): "Live pull", ("Proof", "Ladder"): "Bracket", ("Proof", "Frames"): "Defocus",
    ("Export", "Terms"): "Values", ("Export", "Back"): "Import", ("Export", "Sheet"): "Camera sheet",
}  # fmt: skip
"""Pages of Kobrel 0.1 by tab and name, and what they are called now."""


def remembered_page(settings: Settings, card: str) -> str:
    """The page that a tab was left at, also by Kobrel 0.1."""
    name = card if settings.has(PAGE, card) else _FORMER_CARDS.get(card, card)
    kept = settings.get(PAGE, name)
    return _FORMER_PAGES.get((card, kept), kept)


def allow_folder(settings: Settings, folder: Path) -> None:
    """Let files name others in a folder, now and at later starts."""
    trust.allow([folder])
    kept = settings.get(ALLOWED)
    if str(folder) not in kept:
        settings.put(ALLOWED, [*kept, str(folder)])


def allow_chosen(settings: Settings, path: Path) -> None:
    """Let in the folder of a file that a person has chosen, and that of what it links to."""
    for folder in {path.absolute().parent, path.resolve().parent}:
        allow_folder(settings, folder)


# The plan in work
RECENT_FILES = Setting[list[str]]("recent", [])
LAST_FILE = Setting("last", "")
PLACE = Setting[list[int]]("place/", [])
"""Shot and frame where a file was left, by file."""

ALLOWED = Setting[list[str]]("allowed", [])
"""Folders that files may name others in."""
WRITES = Setting[list[list[str]]]("writes", [])
"""Plans and folders: where a plan may keep files up to date."""
WRITTEN: Setting[dict[str, str]] = Setting("written", {})
"""Files that are kept up to date, and their state when Kobrel wrote them."""
VERSIONS_KEPT = Setting("versions", VERSIONS)
"""How many earlier versions of a plan are kept when it is saved."""
MEMORY_PERCENT = Setting("memory_percent", 25)
"""How much of the machine's memory frames and stages may take, percent."""

SCHEDULER = Setting("farm/scheduler", "")
"""Address of the scheduler of workers; "" is this machine alone."""

PROOF_ORDER = Setting("wall/order", "kept")
LADDER_WIDTH, LADDER_PASSES = Setting("ladder/width", 640), Setting("ladder/passes", 32)
LADDER_QUEUED = Setting("ladder/queued", False)
"""How the steps of a bracket are drawn, and whether that waits in the queue."""

SHEET_PAGE, SHEET_COLUMNS = Setting("sheet/page", "A4"), Setting("sheet/columns", 3)
SHEET_WIDE, SHEET_CAPTIONS = Setting("sheet/wide", True), Setting("sheet/captions", True)

VALUES_UNIT = Setting("terms/unit", "")
VALUES_OPEN = Setting[list[str]]("terms/open", ["f_number", "aperture"])
"""Unit of values ("" is the plan's), and the blocks that are open."""
HAND_KIND, EXPORT_VALUES = Setting("hand/kind", "usd"), Setting[list[str]]("hand/terms", [])
PASSES_CHOSEN = Setting[list[str]]("hand/passes", ["depth", "blur", "focus", "mattes"])
CREW_PAGE, CREW_RING, CREW_LENS_SET, CREW_HAS = (
    Setting("crew/page", "A4"), Setting("crew/ring", 80.0), Setting("crew/kit", ""),
    Setting[list[str]]("crew/has", ["strips", "tables"]),
)  # fmt: skip
"""What the crew's sheet is like."""

# The window
PLAY_LOOPS = Setting("play/loops", True)
PLAY_SPEED = Setting("play/speed", 1.0)
DENOISES = Setting("view/denoise", True)
SHORTCUTS = Setting("shortcuts/", "")
"""Key of an action, by its name, where it is not the one it came with; "-" is none."""
FOLDED = Setting("folded/", False)
"""Whether a section of a page is folded, by page and title."""
THEME = Setting("theme", "desktop")
GEOMETRY = Setting("window/geometry", "")
CARD = Setting("window/card", 3)
FLAGS = Setting("picture/flags", "short")
PAGE = Setting("page/", "")
"""The page that a card was left at, by card."""
ROOM_DOWN, ROOM_ACROSS, ROOM_BELOW = (
    Setting("room/down/", ""), Setting("room/across/", ""), Setting("room/below/", ""),
)  # fmt: skip
"""How a card shares the room, by card: states of splitters."""
BARREL_SLIM = Setting("room/barrel/", False)
"""Whether the Barrel is folded to a line, by card."""

# New plans
NEW_UNIT, NEW_FPS = Setting("new/unit", "m"), Setting("new/fps", 24)

# Work
STOP_STEPS = Setting("stop_steps", "free")
KEEPS_FRAMING = Setting("sensor/keeps_framing", False)
LENS_SETS = Setting[list[str]]("kits", [])
THROW_PX = Setting("throw_px", 60.0)
SUBJECT_ORDER = Setting("subjects/sorted", "")
TOLERANCE_DPT = Setting("perform/tolerance", 0.01)
DISCS_AS_IN_PICTURE = Setting("discs/as_in_picture", False)
COST_LIGHT_PX, COST_NOISE = Setting("costs/light_px", 4.0), Setting("costs/noise", 5.0)
MEMORY_WIDTH, MEMORY_PASSES, MEMORY_EVERY = (
    Setting("screening/width", 640), Setting("playback/passes", 16), Setting("playback/every", 1),
)  # fmt: skip
MOVIE_KIND, MOVIE_FOLDER = Setting("movie/kind", ".mp4"), Setting("movie/folder", "")
MOVIE_CHOICES = Setting[list[str]]("movie/choices", ["frame"])
MOVIE_SAMPLES, MOVIE_DENOISE = Setting("movie/samples", 64), Setting("movie/denoise", False)
