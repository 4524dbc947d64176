"""Writes docs/terms.md: every quantity with its formula and traps, from the quantities themselves."""

import sys
from pathlib import Path

from kobrel.plan.terms.blocks import BLOCKS, EXACT_PX
from kobrel.plan.terms.quantities import QUANTITIES, SYMBOLS

TARGET = Path(__file__).parent.parent / "docs" / "terms.md"
_HEAD = f"""# Terms

One plan in everybody's words, and back. A *family* is what renderers of one kind ask for; each of its values is worked out
from the same camera (`kobrel.plan.terms`), so they never contradict. Symbols are those of [Optics](optics.md): f focal length,
N f-number, A = f/N pupil, s focus distance, v image distance, c0 the largest blur called sharp, c1 that of a full ramp, w and h
the delivered frame on the sensor, q squeeze, W delivery width in pixels; b the near end of a depth picture, e its far end.

**A render camera.** Renderers keep their angle of view wherever they focus. What is handed over are therefore v and v / A, which
make the same picture at that frame; in the `render` model they are the lens's own. Held over a shot in which a thin lens
breathes, or a zoom moves, framing drifts: by how much is told.

**Digits.** A value has as many decimals as keep every blur within {EXACT_PX:g} px, and the picture's edge within half a pixel, when
all values of its block are rounded so. What sets no blur has four figures.

**Lengths** are in the unit that is chosen: the plan's, the scene's, m, cm, mm, in or ft (feet with decimals). Sensors and pupils in
mm stay in mm. A *focus distance* counts along the axis; on a spherical focus surface straight.

**Back.** Lines (`Radius: 1.25 cm`), a table with headings, or JSON; names are those on the screen or the keys below, own names
too; a unit may stand behind a value, or in brackets behind a heading (`near_limit [cm]`). A column or field `frame` gives values
over frames. A value that is written as Kobrel shows it now stays exactly what it is; of several for the same thing the changed
one counts, and two that were changed must agree. Near and far limit, both changed, put the focus between them in dioptres.
Values beyond bounds are refused by name, and nothing changes until it is taken. `kobrel import` does the same without a window.

**Own terms** are a small JSON file, `NAME.terms.json` in the settings' folder `terms`, to be shared:

    {{"title": "Old renderer", "terms": [
      {{"name": "ap", "quantity": "aperture_radius", "unit": "mm", "scale": 0.5, "sign": 1, "decimals": 3}},
      {{"name": "fd", "quantity": "focus_distance", "unit": "scene", "sign": -1}}]}}

Of each: its name, a key from below, the unit of a length (`scene`, m, cm, mm, in, ft), a scale it is multiplied by, a sign, and
decimals (without them as many as blur needs). The order is the file's.

## What gets lost

Below each block stands what its renderers cannot say, with the most it can be in pixels at delivery, at that frame:

| what | how much |
|---|---|
| focus on a sphere instead of a plane, or the other way round | the largest change of a seen subject's blur |
| a straight distance typed as the focus | blur of the subject in focus then |
| a thin lens's own focal length and stop typed | shift of the picture's edge, W/2 (v/f − 1); change of the largest blur |
| one value held over a shot that breathes or zooms | greatest shift of the picture's edge |
| no squeeze | largest blur × (1 − 1/q) |
| no blades | how far the outline leaves the circle, × half the largest blur |
| no cat's eye | what the front stop cuts from a corner's disc |
| no mask, no weight of the rim | diameter of the largest disc, within which light is otherwise |
| no fringes, swirl, spherical aberration | shift of the image × A / v |
| a ramp even in distance | greatest difference from the lens between the nearest and the farthest that matter |
| blur even in depth | the same between black and white; one over depth has none |
| a largest blur | what is cut from the largest |

The largest blur is that of subjects in the picture and of infinity.

## Every value
"""


def made() -> str:
    """The text of the page."""
    parts = [_HEAD]
    told: set[str] = set()
    for block in BLOCKS:
        parts.append(
            f"\n### {block.title} (`{block.key}`)\n\n| value | key | unit | formula | what it is, and its trap |\n|---|---|---|---|---|\n"
        )
        for key in block.keys:
            quantity = QUANTITIES[key]
            unit = "length" if quantity.kind == "length" else SYMBOLS[quantity.kind]
            about = "see above" if key in told else " ".join(filter(None, (quantity.meaning, quantity.trap)))
            formula = quantity.formula.replace("|", "\\|")
            parts.append(f"| {quantity.label} | `{key}` | {unit} | {formula} | {about} |\n")
            told.add(key)
    return "".join(parts)


def main() -> int:
    """Write it."""
    TARGET.write_text(made())
    return 0


if __name__ == "__main__":
    sys.exit(main())
