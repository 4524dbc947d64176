"""Commands for the desktop: entry, icon, kind of file, manual and completions; thumbnails of plans."""

import shutil
import subprocess
import sys
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path
from typing import Annotated

import typer

import kobrel
from kobrel.cli.manual import bash_completion, fish_completion, manual_page, zsh_completion
from kobrel.cli.shared import Force, Output, PlanPath, app, free_output, trust_opened
from kobrel.errors import KobrelError

_DATA = Path(kobrel.__file__).parent / "data"
ICON_SIZES = (16, 22, 24, 32, 48, 64, 128, 256, 512)
SMALL = 24
"""Up to this size the icon has fewer lines."""
_MOST_PX = 1024


def desktop_files(program: str) -> Iterator[tuple[Path, bytes]]:
    """What the desktop is given: places below a ``share`` folder, and content.

    Parameters
    ----------
    program : what is run; a path where it is not on everybody's PATH
    """
    data, quoted = _DATA / "desktop", f'"{program}"' if " " in program else program
    for name, place in (
        ("kobrel.desktop", "applications"), ("kobrel.xml", "mime/packages"),
        ("kobrel.metainfo.xml", "metainfo"), ("kobrel.thumbnailer", "thumbnailers"),
    ):  # fmt: skip
        text = (data / name).read_text("utf-8")
        for key, value in (("TryExec", program), ("Exec", quoted)):
            text = text.replace(f"\n{key}=kobrel", f"\n{key}={value}")
        yield Path(place) / name, text.encode()
    icons = Path("icons/hicolor")
    yield icons / "scalable/apps/kobrel.svg", (_DATA / "icons" / "kobrel.svg").read_bytes()
    for size in ICON_SIZES:
        small = _DATA / "icons" / f"kobrel_{size}.png"
        yield icons / f"{size}x{size}/apps/kobrel.png", small.read_bytes()
    yield Path("man/man1/kobrel.1"), manual_page().encode()
    yield Path("bash-completion/completions/kobrel"), bash_completion().encode()
    yield Path("zsh/site-functions/_kobrel"), zsh_completion().encode()
    yield Path("fish/vendor_completions.d/kobrel.fish"), fish_completion().encode()


@app.command(name="warm-up")
def warm_up() -> None:
    """Compile what draws, once after an installation, so that the first picture does not wait for it."""
    from kobrel.picture.ready import warmed_up

    typer.echo("Compiling what draws; this takes a minute the first time.")
    if not warmed_up():
        raise KobrelError(
            "compiled code cannot be saved, neither in Kobrel's own folder nor in the cache folder.",
            remedy="Run it as somebody who may write there; until then every start compiles again.",
        )
    typer.echo("Ready: pictures are drawn at once.")


@app.command()
def desktop(
    install: Annotated[bool, typer.Option("--install", help="Make Kobrel known to your desktop.")] = False,
    remove: Annotated[bool, typer.Option("--remove", help="Undo what --install did.")] = False,
    root: Annotated[
        Path | None, typer.Option("--root", metavar="DIR", help="Into this share folder instead of your own.")
    ] = None,
    program: Annotated[
        str | None, typer.Option("--program", help="What is run; this very program by default.")
    ] = None,
) -> None:
    """Make Kobrel known to your desktop: entry, icon, plans by double click, thumbnails, manual."""
    if install == remove:
        raise typer.BadParameter("Give either --install or --remove.")
    from platformdirs import user_data_path

    share = root if root is not None else user_data_path()
    for place, content in desktop_files(program or _own_program()):
        target = share / place
        try:
            if remove:
                _remove(target, share)
            else:
                target.parent.mkdir(parents=True, exist_ok=True)
                target.write_bytes(content)
        except OSError as error:
            raise KobrelError(f"cannot be written ({error.strerror}).", file=target) from None
    if root is None:  # else somebody packs it for another machine
        _refresh(share)
    typer.echo(f"{share}: Kobrel is {'known to the desktop' if install else 'gone from the desktop'}.")


def _own_program() -> str:
    """The program that runs now, by its full path."""
    return str(Path(shutil.which("kobrel") or Path(sys.executable).with_name("kobrel")).absolute())


def _remove(target: Path, share: Path) -> None:
    """Take a file away, and folders that are empty then."""
    target.unlink(missing_ok=True)
    for folder in target.parents:
        if folder == share or not folder.is_dir() or any(folder.iterdir()):
            return
        folder.rmdir()


def _refresh(share: Path) -> None:
    """Let the desktop read its folders anew, where its tools are there; else it does so by itself."""
    for command in (
        ["update-mime-database", str(share / "mime")],
        ["update-desktop-database", "-q", str(share / "applications")],
        ["gtk-update-icon-cache", "-q", "-t", str(share / "icons/hicolor")],
    ):
        if shutil.which(command[0]) and Path(command[-1]).is_dir():
            with suppress(OSError, subprocess.SubprocessError):
                subprocess.run(command, capture_output=True, check=False, timeout=60)


@app.command()
def thumbnail(
    plan: PlanPath,
    output: Output,
    size: Annotated[int, typer.Option(min=16, max=_MOST_PX, help="Longest side, pixels.")] = 256,
    force: Force = False,
) -> None:
    """Draw a small picture of a plan's first shot, as file managers show it."""
    from kobrel.exchange.proof.thumbnail import write_thumbnail
    from kobrel.plan.file import open_plan

    free_output(output, force)
    trust_opened(plan)
    write_thumbnail(open_plan(plan), output, size)
