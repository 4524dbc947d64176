"""Files of a stranger: other kinds under names of pictures and movies, layers and clips that lead elsewhere, plans
that want to write, and words that look like markup.
"""

import json
import os
from collections.abc import Iterator
from pathlib import Path

from kobrel.plan.start import empty_plan

Case = tuple[str, Path]
MARKUP = "<img src=/dev/zero><b>x</b>"
_OTHERS = {
    "eps": b"%!PS-Adobe-3.0 EPSF-3.0\n%%BoundingBox: 0 0 9 9\n(campaign-ran) (w) file closefile\nshowpage\n%%EOF\n",
    "pdf": b"%PDF-1.4\n1 0 obj<</Type/Catalog>>endobj\ntrailer<</Root 1 0 R>>\n%%EOF\n",
    "svg": b'<svg xmlns="http://www.w3.org/2000/svg"><image href="/dev/zero"/></svg>',
    "gif": b"GIF89a\xff\xff\xff\xff\0\0\0" + bytes(40),
    "ppm": b"P6\n60000 60000\n255\n" + bytes(40),
    "fits": b"SIMPLE  =                    T" + bytes(2880),
    "concat": b"ffconcat version 1.0\nfile secret.mp4\n",
    "playlist": b"#EXTM3U\n#EXTINF:1,\n/dev/zero\n#EXT-X-ENDLIST\n",
}


def strange_cases(folder: Path) -> Iterator[Case]:
    """Make them one by one: a name, and where it is."""
    yield from _other_kinds(folder)
    yield from _layers(folder)
    yield from _writers(folder)
    yield from _markup(folder)
    yield from _jobs(folder)


def _case(folder: Path, name: str, content: bytes | str) -> Case:
    path = folder / name
    path.write_bytes(content if isinstance(content, bytes) else content.encode())
    return name, path


def _other_kinds(folder: Path) -> Iterator[Case]:
    for kind, content in _OTHERS.items():
        for ending in (".png", ".jpg", ".tif", ".exr", ".hdr", ".ora", ".mp4", ".mov"):
            yield _case(folder, f"as_{kind}{ending}", content)
            yield _case(folder, f"cut_{kind}{ending}", content[:9])


def _layers(folder: Path) -> Iterator[Case]:
    """Every arc of USD to what may not be read, hangs, or is damaged."""
    pipe, bad = folder / "pipe_layer.usda", folder / "bad_layer.usda"
    if not pipe.exists():
        os.mkfifo(pipe)
    bad.write_text("#usda 1.0\ndef {{{{")
    targets = ("/etc/passwd", "/dev/zero", f"./{pipe.name}", f"./{bad.name}", "../" * 30 + "etc/hosts")
    for number, target in enumerate(targets):
        arcs = {
            "below": ("", f"subLayers = [@{target}@]"),
            "reference": (f'def "A" (references = @{target}@) {{\n}}', ""),
            "payload": (f'def "A" (payload = @{target}@) {{\n}}', ""),
            "variable": ('def "A" (references = @`"${V}"`@) {\n}', f'expressionVariables = {{ string V = "{target}" }}'),
            "clips": (
                'def "A" (\nclips = {\ndictionary default = {\n'
                f'asset[] assetPaths = [@{target}@]\nasset manifestAssetPath = @{target}@\nstring primPath = "/A"\n}}\n}}\n)'
                " {\n}", "",
            ),
            "template": (
                'def "A" (\nclips = {\ndictionary default = {\nstring primPath = "/A"\n'
                f'string templateAssetPath = "{target}.#.usda"\ndouble templateStartTime = 1\n'
                "double templateEndTime = 1e9\ndouble templateStride = 1e-6\n}\n}\n) {\n}", "",
            ),
        }  # fmt: skip
        for name, (text, head) in arcs.items():
            yield _case(
                folder, f"arc_{name}_{number}.usda", f'#usda 1.0\n({head}\n)\ndef Cube "Own" {{\n}}\n{text}\n'
            )


def _writers(folder: Path) -> Iterator[Case]:
    """Plans that want to write; whoever uses them sees that nothing is written."""
    plain = json.loads(empty_plan().model_dump_json())
    targets = (
        "/etc/cron.d/x.csv",
        ".bashrc",
        "../.ssh/authorized_keys",
        "x.csv",
        "/dev/sda.csv",
        "~/.profile",
        "a" * 4000,
    )
    for number, target in enumerate(targets):
        for kind in ("csv", "json", "otio", "sheet", "usd"):
            out = {"kind": kind, "path": target, "shots": ["01"]}
            yield _case(folder, f"writes_{kind}_{number}.kobrel", json.dumps({**plain, "handed": [out]}))


def _markup(folder: Path) -> Iterator[Case]:
    plain = json.loads(empty_plan().model_dump_json())
    shot = {**plain["shots"][0], "title": MARKUP, "name": MARKUP}
    subject = {"number": 1, "name": MARKUP, "anchor": {"kind": "point", "position_m": [0, 0, 0]}}
    yield _case(
        folder, "markup.kobrel", json.dumps({**plain, "name": MARKUP, "shots": [shot], "subjects": [subject]})
    )
    yield _case(folder, f"{MARKUP.replace('/', '-')}.kobrel", json.dumps({**plain, "format": MARKUP}))
    yield _case(folder, "markup.csv", f"{MARKUP}, 3, m\n" * 9)


def _jobs(folder: Path) -> Iterator[Case]:
    """Files of the queue."""
    job = {
        "format": 1, "title": MARKUP, "output": "/etc", "work": "{}", "plan": "{}", "address": "tcp://x", "allowed": ["/"],
        "force": True, "added": 0.0,
    }  # fmt: skip
    yield _case(folder, "fine.job.json", json.dumps(job))
    for field in job:
        for number, value in enumerate((None, [], {}, -1, 1e400, "x" * 10**6, [[[]]])):
            yield _case(folder, f"{field}{number}.job.json", json.dumps({**job, field: value}))
    for name, content in {"deep": "[" * 10**6, "empty": "", "noughts": "\0" * 5000, "list": "[1]"}.items():
        yield _case(folder, f"{name}.job.json", content)
