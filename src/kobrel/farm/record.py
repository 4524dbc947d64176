"""What of a job was made already, so that work goes on where it was."""

import hashlib
import json
from collections.abc import Collection, Sequence
from pathlib import Path

from kobrel.errors import ExchangeError, KobrelError
from kobrel.farm.bundle import digest_of
from kobrel.farm.making import Made
from kobrel.files import write_whole


class Record:
    """The items of a job that were written, in a file of lines: what each is called, and the names and
    digests of its files.

    Parameters
    ----------
    path : of the record; its folder is made
    folder : where the job's files are written

    Raises
    ------
    ExchangeError
        A folder cannot be made.
    """

    def __init__(self, path: Path, folder: Path) -> None:
        self._path, self.folder = path, folder
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
        """Files that were written, whether they are still so or not."""
        return {name for _key, files in self._lines() for name, _digest in files}

    def gone(self, keys: Collection[str]) -> list[Path]:
        """Files of items that were written, and are not there any more."""
        names = [name for key, files in self._lines() if key in keys for name, _digest in files]
        return [place for name in dict.fromkeys(names) if not (place := self.folder / name).exists()]

    def _lines(self) -> list[tuple[str, list[tuple[str, str]]]]:
        try:
            text = self._path.read_text("utf-8", "replace")
        except OSError:
            return []
        lines = []
        for line in filter(None, text.splitlines()):
            try:
                entry = json.loads(line)
                lines.append((str(entry["item"]), [(str(n), str(d)) for n, d in entry["files"]]))
            except (ValueError, KeyError, TypeError):
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
        self._add(key, [(str(path.absolute()), digest_of(path)) for path in paths])

    def _add(self, key: str, files: Sequence[tuple[str, str]]) -> None:
        with self._path.open("ab") as file:
            file.write((json.dumps({"item": key, "files": files}) + "\n").encode())
