"""Damaged and hostile files over every reader: python -m campaign.fuzz --seconds 600.

What goes wrong is kept in campaign/finds, reduced; a find that was put right belongs into
tests/campaign/finds, where it is tried for ever.
"""

import argparse
import random
import sys
import tempfile
import threading
import time
from collections import Counter
from pathlib import Path

from campaign.hostile import hostile_cases
from campaign.mutate_files import damaged
from campaign.seeds import make_seeds
from campaign.sockets import odd_talk
from campaign.watch import Child, Outcome

_FINDS = Path(__file__).parent / "finds"


class Campaign:
    """Cases, one after the other, in several children; `counts` is by format and outcome.

    Parameters
    ----------
    folder : where the cases are made
    first : number of the first case; a number always makes the same case
    """

    def __init__(self, folder: Path, first: int = 0, kinds: set[str] | None = None) -> None:
        self._folder = folder
        seeds = make_seeds(folder / "seeds")
        self._seeds = [seed for seed in seeds if kinds is None or seed.suffix.lstrip(".") in kinds]
        self._next = first
        self._lock = threading.Lock()
        self.counts: Counter[tuple[str, str]] = Counter()
        self.finds: list[tuple[str, Outcome]] = []

    def run(self, seconds: float, most: int, workers: int) -> None:
        """Damage and use files for so long, or so many."""
        until, last = time.monotonic() + seconds, self._next + most
        threads = [
            threading.Thread(target=self._work, args=(number, until, last)) for number in range(workers)
        ]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()

    def _work(self, worker: int, until: float, last: int) -> None:
        child = Child()
        folder = self._folder / f"worker{worker}"
        folder.mkdir(exist_ok=True)
        for beside in self._folder.glob("seeds/*"):
            if beside.suffix in (".mtl", ".png", ".bin"):
                (folder / beside.name).write_bytes(beside.read_bytes())
        while time.monotonic() < until:
            with self._lock:
                number, self._next = self._next, self._next + 1
            if number >= last:
                break
            seed = self._seeds[number % len(self._seeds)]
            content = damaged(seed.read_bytes(), seed.suffix, random.Random(number))
            path = folder / seed.name
            path.write_bytes(content)
            self._note(seed.suffix, f"{number} {seed.name}", child.run(path), content)
        child.end()

    def run_hostile(self, most: int) -> None:
        """Use the files that are made to harm."""
        child = Child()
        for number, (name, path) in enumerate(hostile_cases(self._folder / "hostile")):
            if number >= most:
                break
            self._note("hostile", name, child.run(path), None)
        child.end()

    def run_sockets(self, most: int) -> None:
        """Talk nonsense to the simulated devices, and let odd ones answer Kobrel."""
        for number in range(most):
            self._note("socket", f"talk {number}", odd_talk(random.Random(number)), None)

    def _note(self, kind: str, name: str, outcome: Outcome, content: bytes | None) -> None:
        with self._lock:
            self.counts[kind, outcome.kind] += 1
            if outcome.is_fine:
                return
            self.finds.append((name, outcome))
            print(f"{name}: {outcome.kind} {outcome.details[-1500:]}", flush=True)
        if content is not None:
            _FINDS.mkdir(exist_ok=True)
            suffix = Path(name).suffix
            small = reduced(content, outcome.kind, self._folder / f"reduced{len(self.finds)}{suffix}")
            (_FINDS / name.replace(" ", "_")).write_bytes(small)

    def table(self) -> str:
        """Counts as text: a line for each format."""
        outcomes = ("ok", "refused", "fault", "signal", "hang", "memory")
        lines = [f"{'format':10}" + "".join(f"{name:>9}" for name in outcomes)]
        for kind in sorted({kind for kind, _ in self.counts}):
            lines.append(f"{kind:10}" + "".join(f"{self.counts[kind, name]:9}" for name in outcomes))
        totals = [
            sum(count for (_, outcome), count in self.counts.items() if outcome == name) for name in outcomes
        ]
        return "\n".join([*lines, f"{'all':10}" + "".join(f"{total:9}" for total in totals)])


def reduced(content: bytes, kind: str, path: Path, tries: int = 60) -> bytes:
    """A smaller file that goes wrong in the same way: halves, quarters and so on are left out while it does."""
    child, part, left = Child(), max(1, len(content) // 2), tries
    while part and left:
        at = 0
        while at < len(content) and left:
            shorter = content[:at] + content[at + part :]
            path.write_bytes(shorter)
            left -= 1
            if shorter and child.run(path).kind == kind:
                content = shorter
            else:
                at += part
        part //= 2
    child.end()
    return content


def main() -> int:
    """Run the campaign and tell its counts; 1 if anything was found."""
    parser = argparse.ArgumentParser(prog="python -m campaign.fuzz", description=__doc__)
    parser.add_argument("--seconds", type=float, default=300)
    parser.add_argument("--cases", type=int, default=10**9)
    parser.add_argument("--first", type=int, default=int(time.time()) % 10**6 * 1000)
    parser.add_argument("--kinds", default="", help="endings, such as glb,usda; all if left out")
    parser.add_argument("--workers", type=int, default=2)
    parser.add_argument("--hostile", type=int, default=10**6, help="how many hostile files")
    parser.add_argument("--sockets", type=int, default=300, help="how many odd talks with devices")
    given = parser.parse_args()
    with tempfile.TemporaryDirectory(prefix="kobrel-campaign-") as folder:
        campaign = Campaign(Path(folder), given.first, set(given.kinds.split(",")) if given.kinds else None)
        if given.hostile:
            campaign.run_hostile(given.hostile)
        campaign.run_sockets(given.sockets)
        campaign.run(given.seconds, given.cases, given.workers)
        print(f"\nfrom case {given.first}\n{campaign.table()}")
    return 1 if campaign.finds else 0


if __name__ == "__main__":
    sys.exit(main())
