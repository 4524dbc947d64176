"""What runs in a process, so that only like makes the frames of one job."""

import hashlib
import platform
from dataclasses import dataclass
from functools import cache
from importlib.metadata import PackageNotFoundError, version
from pathlib import Path

import kobrel

_PACKAGES = ("numpy", "numba", "embreex", "OpenImageIO", "av", "usd-core")
"""What the bits of a picture depend on besides Kobrel."""


@dataclass(frozen=True)
class Versions:
    """What runs here.

    Parameters
    ----------
    kobrel : its version and the beginning of a digest of its sources
    packages : what its pictures depend on besides, with versions
    processor : what kernels are compiled for; another kind may round the last bits differently
    """

    kobrel: str
    packages: str
    processor: str

    def refusal(self, other: "Versions", where: str) -> str:
        """Why another process may not make frames for this one; "" if it may."""
        for name, own, found in (
            ("Kobrel", self.kobrel, other.kobrel), ("", self.packages, other.packages)
        ):  # fmt: skip
            if own != found:
                return (
                    f"the worker at {where} runs {name} {found}, this is {own}. "
                    "Install the same on both.".replace("  ", " ")
                )
        return ""


@cache
def versions() -> Versions:
    """What runs in this process."""
    import llvmlite.binding

    root, sources = Path(kobrel.__file__).parent, hashlib.sha256()
    for path in sorted(root.rglob("*.py")):
        sources.update(str(path.relative_to(root)).encode())
        sources.update(path.read_bytes())
    packages = [f"Python {platform.python_version()}", *(_installed(name) for name in _PACKAGES)]
    kind = f"{platform.machine()} {llvmlite.binding.get_host_cpu_name()}"
    return Versions(f"{kobrel.__version__} ({sources.hexdigest()[:8]})", ", ".join(packages), kind)


def _installed(name: str) -> str:
    try:
        return f"{name} {version(name)}"
    except PackageNotFoundError:
        return f"no {name}"
