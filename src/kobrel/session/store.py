"""Settings in a file: JSON, written whole."""

import json
import sys
from collections.abc import Callable, Iterator, MutableMapping
from pathlib import Path

from kobrel.errors import KobrelError
from kobrel.files import json_of, write_whole


class FileStore(MutableMapping[str, str]):
    """Text by key, kept in a file that other windows may write too.

    What they write in the meantime is kept. A file that cannot be read counts as empty, and one that
    cannot be written leaves the values to this window alone, which is told once.

    Parameters
    ----------
    path : of the file; its folder is made when something is kept
    """

    def __init__(self, path: Path) -> None:
        self._path = path
        self._failed = False
        self.told: Callable[[str], object] = lambda text: print(f"kobrel: {text}", file=sys.stderr)
        self._kept = self._read()

    def _read(self) -> dict[str, str]:
        try:
            found = json_of(self._path)
        except KobrelError:
            return {}
        values = found.items() if isinstance(found, dict) else ()
        return {str(key): value for key, value in values if isinstance(value, str)}

    def _write(self, key: str, value: str | None) -> None:
        kept = self._read() or self._kept
        if value is None:
            kept.pop(key, None)
        else:
            kept[key] = value
        self._kept = kept
        try:
            self._path.parent.mkdir(parents=True, exist_ok=True)
            write_whole(self._path, json.dumps(kept, indent=1).encode("utf-8"), flush=False)
        except OSError as error:
            self._tell(
                f"{self._path} cannot be written ({error.strerror}): settings hold until Kobrel is closed."
            )
        else:
            self._failed = False

    def _tell(self, text: str) -> None:
        if not self._failed:
            self._failed = True
            self.told(text)

    def __getitem__(self, key: str) -> str:
        return self._kept[key]

    def __setitem__(self, key: str, value: str) -> None:
        if self._kept.get(key) != value:
            self._write(key, value)

    def __delitem__(self, key: str) -> None:
        del self._kept[key]
        self._write(key, None)

    def __iter__(self) -> Iterator[str]:
        return iter(self._kept)

    def __len__(self) -> int:
        return len(self._kept)
