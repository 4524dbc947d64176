"""What of a job was made already, so that work goes on where it was.

Beside what is made lies a folder of records, a file for each run: so other people, machines and ranges of
frames know what is made of the same plan, and none writes into another's file.
"""

import hashlib
import json
import uuid
from collections.abc import Collection, Mapping, Sequence
from pathlib import Path

from kobrel.errors import ExchangeError, KobrelError
from kobrel.farm.bundle import digest_of
from kobrel.farm.making import Made
from kobrel.files import is_file, write_whole

SHARED = ".kobrel-made"
"""Folder beside what is made, with the records of all who made some of it."""


class Record:
    """The items of a job that were written, in a file of lines: what each is called, and the names and
    digests of its files.

    Parameters
    ----------
    path : of the record; its folder is made
    folder : where the job's files are written
    of : what tells its frames from those of other plans; "" keeps no record beside them
    sources : what tells items from those of other source frames besides, by their keys

    Raises
    ------
    ExchangeError
        A folder cannot be made.
    """

    def __init__(
        self, path: Path, folder: Path, of: str = "", sources: Mapping[str, str] | None = None
    ) -> None:
        self._path, self.folder, self._of, self._sources = path, folder, of[:16], sources or {}
        self._own = folder / SHARED / f"{self._of}.{uuid.uuid4().hex}.jsonl" if of else None
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            folder.mkdir(parents=True, exist_ok=True)
            with path.open("ab") as file:
                if file.tell():
                    file.write(b"\n")  # a crash may have cut off the last line
        except OSError as error:
            raise ExchangeError(f"the folder cannot be made ({error.strerror}).", file=folder) from None

    def there(self) -> set[str]:
        """Items whose files are all there as they were written."""
        found: dict[str, bool] = {}
        for key, files in self._lines():
            found[key] = all(self._is_as_written(name, digest) for name, digest in files)
        return {key for key, whole in found.items() if whole}

    def names(self) -> set[str]:
        """Files that this job wrote, whether they are still so or not, and those that others wrote and that
        are still so.
        """
        own = {name for _key, files in self._lines_of(self._path) for name, _digest in files}
        others = [file for _key, files in self._lines_beside() for file in files if file[0] not in own]
        return own | {name for name, digest in others if self._is_as_written(name, digest)}

    def gone(self, keys: Collection[str]) -> list[Path]:
        """Files of items that were written, and are not there any more."""
        names = [name for key, files in self._lines() if key in keys for name, _digest in files]
        return [place for name in dict.fromkeys(names) if not (place := self.folder / name).exists()]

    def _lines(self) -> list[tuple[str, list[tuple[str, str]]]]:
        return [*self._lines_beside(), *self._lines_of(self._path)]

    def _lines_beside(self) -> list[tuple[str, list[tuple[str, str]]]]:
        """What the records beside the frames say of files in their folder, and of no others."""
        paths = sorted((self.folder / SHARED).glob(f"{self._of}.*.jsonl")) if self._of else []
        lines = [line for path in paths if is_file(path) for line in self._lines_of(path)]
        return [(key, files) for key, files in lines if all(Path(name).name == name for name, _ in files)]

    def _lines_of(self, path: Path) -> list[tuple[str, list[tuple[str, str]]]]:
        try:
            text = path.read_text("utf-8", "replace")
        except OSError:
            return []
        lines = []
        for line in filter(None, text.splitlines()):
            try:
                entry = json.loads(line)
                if str(entry.get("source", "")) != self._sources.get(str(entry["item"]), ""):
                    continue  # made of another source frame
                lines.append((str(entry["item"]), [(str(n), str(d)) for n, d in entry["files"]]))
            except (ValueError, KeyError, TypeError, AttributeError):
                continue  # cut off by a crash
        return lines

    def _is_as_written(self, name: str, digest: str) -> bool:
        try:
            return digest_of(self.folder / name) == digest
        except (KobrelError, OSError):
            return False

    def write(self, made: Made) -> None:
        """Write an item's files, each whole or not at all, and note it.

        Raises
        ------
        OSError
            The system refuses; what was written before stays.
        """
        files = []
        for name, content in made.files:
            place = self.folder / name
            place.parent.mkdir(parents=True, exist_ok=True)
            write_whole(place, content, flush=False)
            files.append((name, hashlib.sha256(content).hexdigest()))
        self._add(made.key, files)

    def note(self, key: str, paths: Sequence[Path]) -> None:
        """Note files that were written otherwise.

        Raises
        ------
        OSError
            The system refuses.
        """
        self._add(key, [(self._name_of(path), digest_of(path)) for path in paths])

    def _name_of(self, path: Path) -> str:
        """What a file is called from the folder, which others may have elsewhere."""
        return path.name if path.absolute().parent == self.folder.absolute() else str(path.absolute())

    def _add(self, key: str, files: Sequence[tuple[str, str]]) -> None:
        source = {"source": self._sources[key]} if key in self._sources else {}
        line = (json.dumps({"item": key, "files": files, **source}) + "\n").encode()
        with self._path.open("ab") as file:
            file.write(line)
        if self._own is not None:
            self._own.parent.mkdir(exist_ok=True)
            with self._own.open("ab") as file:
                file.write(line)
