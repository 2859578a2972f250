"""A run of `salt-anvil speed` against a stored one, and as a chart."""

import json
import math
from collections.abc import Iterator
from html import escape
from pathlib import Path
from typing import Any

from salt_anvil.core.errors import FileError

WIDE, ROW, LEFT, TOP, RIGHT = 760, 16, 250, 46, 20
SHOWN = ("live", "print")
INK, MUTED, FILLS = "#23302f", "#6d7a78", ("#b9c9c4", "#4d7c74")


def factors(found: dict[str, Any], before: tuple[str, ...] = ()) -> Iterator[tuple[str, Any]]:
    """Give every factor of a run by its name: "limiter, print"."""
    for name, value in found.items():
        if isinstance(value, dict) and {"median", "best"} <= set(value):
            yield ", ".join((*before, name)), value
        elif isinstance(value, dict):
            yield from factors(value, (*before, name))


def stored(path: Path) -> dict[str, Any]:
    """Return a run that was kept as JSON.

    Raises:
        FileError: it is none.
    """
    try:
        found = json.loads(path.read_text())
        known = dict(factors(found))
    except (OSError, ValueError, AttributeError) as error:
        raise FileError(f"{path.name} is no run of “salt-anvil speed --json”: {error}") from None
    if not known:
        raise FileError(f"{path.name} is no run of “salt-anvil speed --json”: it holds no figures")
    return dict(found)


def against(now: dict[str, Any], before: dict[str, Any]) -> list[str]:
    """Return in words what has become slower, or faster, beyond the noise of both runs.

    Slower: even the fastest tenth of the pieces does not reach what half of them did before.
    """
    old, found, same = dict(factors(before)), [], 0
    for name, value in factors(now):
        was = old.get(name)
        if was is None:
            continue
        ratio = value["median"] / was["median"]
        if value["best"] < was["median"]:
            found.append((ratio, f"  slower  {name}: {was['median']:.1f} → {value['median']:.1f}"))
        elif value["median"] > was["best"]:
            found.append((ratio, f"  faster  {name}: {was['median']:.1f} → {value['median']:.1f}"))
        else:
            same += 1
    lines = [words for _, words in sorted(found)]
    return ["", "against the stored run", *lines, f"  within the noise of both: {same}"]


def chart(found: dict[str, Any]) -> str:
    """Return the factors of every processor, live and print, as SVG on a logarithmic scale."""
    rows = {**found["dynamics"], "trim": found["trim"]}
    rows = {"compressor": next(iter(found["compressor"].values())), **rows}
    rows |= {f"split: {name}": row for name, row in found["split"].items()}
    top = max(row[key]["median"] for row in rows.values() for key in SHOWN)
    high = 10 ** math.ceil(math.log10(top))
    scale = (WIDE - LEFT - RIGHT) / math.log10(high)
    tall = TOP + ROW * len(rows) + 24
    parts = [
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {WIDE} {tall}" font-size="11"'
        f' font-family="sans-serif" fill="{INK}">',
        f'<rect width="{WIDE}" height="{tall}" fill="#ffffff"/>',
        f'<text x="10" y="18">Seconds of sound per second of one core, stereo, {found["rate"]} Hz'
        f" ({escape(found['machine'])})</text>",
        f'<text x="10" y="34" fill="{MUTED}">pale: live, dark: print; medians</text>',
    ]
    for power in range(int(math.log10(high)) + 1):
        x = LEFT + scale * power
        parts.append(f'<path d="M{x:.1f} {TOP - 4}V{tall - 20}" stroke="#dfe6e4"/>')
        parts.append(
            f'<text x="{x:.1f}" y="{tall - 8}" text-anchor="middle" fill="{MUTED}">{10**power}'
            "</text>"
        )
    for i, (name, row) in enumerate(rows.items()):
        y = TOP + ROW * i
        parts.append(f'<text x="{LEFT - 8}" y="{y + 10}" text-anchor="end">{escape(name)}</text>')
        for j, key in enumerate(SHOWN):
            wide = scale * math.log10(max(row[key]["median"], 1.0))
            parts.append(
                f'<rect x="{LEFT}" y="{y + 1 + 6 * j}" width="{wide:.1f}" height="6"'
                f' fill="{FILLS[j]}"><title>{escape(name)}, {key}: {row[key]["median"]:.0f}'
                "</title></rect>"
            )
    return "\n".join([*parts, "</svg>"])
