"""What a measurement found: figures and plots, as data, as CSV."""

from dataclasses import asdict, dataclass, field, replace
from typing import Any, Literal

import numpy as np

Kind = Literal["line", "bars", "image"]
FLOOR_DB = -160.0
"""What is quieter is told as this."""


def db(value: Any) -> Any:
    """Return amplitudes in dB, at least FLOOR_DB."""
    return 20 * np.log10(np.maximum(np.abs(value), 10 ** (FLOOR_DB / 20)))


@dataclass(frozen=True)
class Figure:
    """One number with its name and unit; None where there is none to be found."""

    label: str
    value: float | None
    unit: str


@dataclass(frozen=True)
class Trace:
    """A line or a row of bars over a plot's x; drawn: what is expected, dashed."""

    name: str
    y: list[float]
    drawn: bool = False


@dataclass(frozen=True)
class Plot:
    """Traces over x. An image has `levels`, a row for every y from low to high, columns over x.

    marks: places on x with a word.
    """

    title: str
    x_label: str
    y_label: str
    x: list[float]
    low: float
    high: float
    traces: list[Trace] = field(default_factory=list)
    kind: Kind = "line"
    log: bool = False
    levels: list[list[int]] = field(default_factory=list)
    marks: list[tuple[float, str]] = field(default_factory=list)


@dataclass(frozen=True)
class Result:
    """What was measured, on what, and what was found."""

    measurement: str
    words: str
    rate: int
    figures: list[Figure]
    plots: list[Plot]

    def plain(self) -> dict[str, Any]:
        """Return it as plain data."""
        return asdict(self)

    def csv(self) -> str:
        """Return figures, then the plots one under another, as comma-separated values."""
        lines: list[str] = []

        def write(cells: list[Any]) -> None:
            lines.append(",".join(_cell(str(cell)) for cell in cells) + "\n")

        write([self.words])
        write(["rate", self.rate, "Hz"])
        for figure in self.figures:
            value = "" if figure.value is None else f"{figure.value:.6g}"
            write([figure.label, value, figure.unit])
        for plot in self.plots:
            write([])
            write([plot.title])
            if plot.kind == "image":
                _image_rows(plot, write)
                continue
            write([plot.x_label, *(f"{t.name}, {plot.y_label}" for t in plot.traces)])
            for i, x in enumerate(plot.x):
                write([f"{x:.6g}", *(f"{t.y[i]:.6g}" for t in plot.traces)])
        return "".join(lines)


def _cell(text: str) -> str:
    """Return a cell as RFC 4180 has it (from memory)."""
    return '"' + text.replace('"', '""') + '"' if any(c in text for c in ',"\n') else text


def _image_rows(plot: Plot, write: Any) -> None:
    """Write an image: a row for every frequency, levels in dB (0 to 255 is -120 to 0)."""
    write([f"{plot.y_label} \\ {plot.x_label}", *(f"{x:.4g}" for x in plot.x)])
    step = (plot.high - plot.low) / max(len(plot.levels) - 1, 1)
    for i, row in enumerate(plot.levels):
        write([f"{plot.low + i * step:.6g}", *(f"{level * 120 / 255 - 120:.1f}" for level in row)])


def beside(first: Result, second: Result, name: str, other: str) -> Result:
    """Return one result with the second's traces and figures beside the first's, both named."""
    others = {(f.label, f.unit): f for f in second.figures}
    figures = []
    for figure in first.figures:
        figures.append(replace(figure, label=f"{figure.label}, {name}"))
        there = others.pop((figure.label, figure.unit), None)
        if there is not None:
            figures.append(replace(there, label=f"{there.label}, {other}"))
    # What only the second has: a single stage draws a curve, a chain does not.
    figures += [replace(f, label=f"{f.label}, {other}") for f in others.values()]
    plots = []
    there_too = {p.title: p for p in second.plots}
    for p in first.plots:
        q = there_too.pop(p.title, None)
        if q is None:  # a chain has no joins without a split
            plots.append(_named(p, name))
            continue
        if p.kind == "image":
            plots += [_named(p, name), _named(q, other)]
            continue
        traces = _named(p, name).traces
        for trace in q.traces:
            y = trace.y
            if p.x != q.x:
                y = _onto(p.x, q.x, y)
            traces.append(replace(trace, name=f"{trace.name}, {other}", y=y, drawn=True))
        low, high = min(p.low, q.low), max(p.high, q.high)
        plots.append(replace(p, traces=traces, marks=p.marks + q.marks, low=low, high=high))
    plots += [_named(q, other) for q in there_too.values()]
    return replace(
        first, words=f"{first.words}; {name} beside {other}", figures=figures, plots=plots
    )


def _named(plot: Plot, name: str) -> Plot:
    """Return a plot whose traces, or whose title if it is an image, say whose it is."""
    if plot.kind == "image":
        return replace(plot, title=f"{plot.title}, {name}")
    return replace(plot, traces=[replace(t, name=f"{t.name}, {name}") for t in plot.traces])


def _onto(x: list[float], known: list[float], y: list[float]) -> list[float]:
    return [float(v) for v in np.interp(x, known, y)]
