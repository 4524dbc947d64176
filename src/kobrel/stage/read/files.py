"""Text in any encoding, and files beside a scene, by whatever way they are named."""

from pathlib import Path, PurePosixPath

from kobrel import trust
from kobrel.errors import KobrelError
from kobrel.files import bytes_of, is_file

_MARKS = ((b"\xef\xbb\xbf", "utf-8-sig"), (b"\xff\xfe", "utf-16"), (b"\xfe\xff", "utf-16"))
_ENOUGH = 1 << 16
_MOST_FILES = 20_000


def text_of(content: bytes) -> str:
    """The text of a file in whatever encoding it was written."""
    for mark, encoding in _MARKS:
        if content.startswith(mark):
            return content.decode(encoding, errors="replace")
    try:
        return content.decode("utf-8")
    except UnicodeDecodeError:
        return content.decode(_guessed(content), errors="replace")


def _guessed(content: bytes) -> str:
    """The likely encoding of what is not UTF-8, from those lines that are not plain ASCII."""
    from charset_normalizer import from_bytes

    telling = b"\n".join(line for line in content.splitlines() if not line.isascii())[:_ENOUGH]
    best = from_bytes(telling).best()
    return best.encoding if best is not None else "cp1252"


class Beside:
    """Finds the files that a scene names, in its folder and below; a resolver for trimesh.

    Attributes
    ----------
    warnings : what was not found, for a person
    """

    def __init__(self, folder: Path) -> None:
        self._folder = folder.resolve()
        self._by_name: dict[str, Path] | None = None
        self.warnings: list[str] = []

    def find(self, name: str) -> Path | None:
        """A file by its path from the folder, with either slash, or by its name alone."""
        plain = name.strip().strip('"').replace("\\", "/")
        direct = self._resolved(self._folder / plain)
        if direct is not None and is_file(direct):
            trust.note(direct)
            return direct
        found = self._names().get(PurePosixPath(plain).name.lower())
        if found is None:
            told = f"{name.strip()} not found; a plain material is used."
            if told not in self.warnings:
                self.warnings.append(told)
        else:
            trust.note(found)
        return found

    def _resolved(self, path: Path) -> Path | None:
        """A path without links, if it lies in the folder or below."""
        try:
            found = path.resolve()
        except (OSError, ValueError, RuntimeError):  # too long, no path at all, or links in a circle
            return None
        return found if found.is_relative_to(self._folder) else None

    def _names(self) -> dict[str, Path]:
        """The files of the folder and those below it, by their names in small letters."""
        if self._by_name is None:
            self._by_name = {}
            for count, path in enumerate(self._folder.rglob("*")):
                if count > _MOST_FILES:
                    break
                if is_file(path) and self._resolved(path) is not None:
                    self._by_name.setdefault(path.name.lower(), path)
        return self._by_name

    # For trimesh

    def get(self, name: str) -> bytes:
        """The content of a file.

        Raises
        ------
        KobrelError
            It was not found.
        """
        path = self.find(name)
        if path is None:
            raise KobrelError(f"{name} is not there.")
        content = bytes_of(path, KobrelError, None)
        if path.suffix.lower() == ".mtl":
            return text_of(content).encode()
        return content

    def __getitem__(self, name: str) -> bytes:
        return self.get(name)

    def __contains__(self, name: str) -> bool:
        return self.find(name) is not None
