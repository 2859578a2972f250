"""Plots as SVG. Colours are the page's where there is one, and its light ones elsewhere."""

import base64
import math
import re
import struct
import zlib
from html import escape

from salt_anvil.core.lab.result import Plot, Result, Trace

WIDE, TALL = 560, 210
LEFT, RIGHT, TOP, FOOT = 44, 12, 22, 30
PAGE_TALL = 580
INK, SLATE = "var(--ink, #20262B)", "var(--slate, #4A565E)"
HAIR, MUTED = "var(--hair, #DBD7CE)", "var(--muted, #5C6265)"
FIELD, GROUND = "var(--field, #FBFAF7)", "var(--ground, #F3F1EB)"
FONT = "font-family='Commissioner, sans-serif' font-size='11'"
DASHES = ("", "6 3", "2 3", "9 3 2 3")


def svg(result: Result) -> str:
    """Return the plots of a result one under another, with what was measured above."""
    parts = [_text(2, 13, f"{minus(result.words)}, {result.rate / 1000:g} kHz", INK)]
    for index, figure in enumerate(result.figures):
        value = "none" if figure.value is None else f"{_plain(figure.value)} {figure.unit}"
        x, y = 2 + index % 2 * (WIDE / 2), 34 + index // 2 * 16
        parts.append(_text(x, y, f"{figure.label}: {value}", MUTED))
    head = 44 + (len(result.figures) + 1) // 2 * 16
    for index, plot in enumerate(result.plots):
        inner = draw(plot, f"m{index}")
        parts.append(f"<g transform='translate(0 {head + index * TALL})'>{inner}</g>")
    tall = head + len(result.plots) * TALL
    back = f"<rect width='{WIDE}' height='{tall}' fill='{GROUND}'/>"
    return _whole(WIDE, tall, back + "".join(parts))


def plot_svg(plot: Plot, name: str, wide: int = WIDE, tall: int = TALL) -> str:
    """Return one plot; name: of its mask, once on a page."""
    return _whole(wide, tall, draw(plot, name, wide, tall))


def page_plots(result: Result) -> list[str]:
    """Return the plots of a result, each for itself, that together fill the page of Lab."""
    count = len(result.plots)
    wide, tall = (900, min(PAGE_TALL // count, 460)) if count <= 3 else (WIDE, TALL)
    return [plot_svg(plot, f"plot{i}", wide, tall) for i, plot in enumerate(result.plots)]


def _whole(wide: int, tall: int, inner: str) -> str:
    return (
        f"<svg xmlns='http://www.w3.org/2000/svg' viewBox='0 0 {wide} {tall}' {FONT}>{inner}</svg>"
    )


def _text(x: float, y: float, words: str, fill: str = MUTED, anchor: str = "start") -> str:
    return (
        f"<text x='{x:.1f}' y='{y:.1f}' fill='{fill}' text-anchor='{anchor}'>{escape(words)}</text>"
    )


class _Scales:
    """Where values lie on a plot."""

    def __init__(self, plot: Plot, wide: int, tall: int) -> None:
        self.plot = plot
        self.right, self.foot = wide - RIGHT, tall - FOOT
        self.low, self.high = plot.x[0], plot.x[-1]
        if plot.kind == "bars":
            self.low, self.high = plot.x[0] - 0.5, plot.x[-1] + 0.5

    def x(self, value: float) -> float:
        low, high = self.low, self.high
        if self.plot.log:
            value, low, high = math.log(max(value, 1e-9)), math.log(low), math.log(high)
        return LEFT + (value - low) / ((high - low) or 1) * (self.right - LEFT)

    def y(self, value: float) -> float:
        share = (value - self.plot.low) / ((self.plot.high - self.plot.low) or 1)
        return TOP + (1 - min(max(share, 0.0), 1.0)) * (self.foot - TOP)


def draw(plot: Plot, name: str, wide: int = WIDE, tall: int = TALL) -> str:
    """Return a plot without its outer element."""
    scales = _Scales(plot, wide, tall)
    inner = scales.right - LEFT, scales.foot - TOP
    box = f"x='{LEFT}' y='{TOP}' width='{inner[0]}' height='{inner[1]}'"
    parts = [
        f"<rect {box} fill='{FIELD}' stroke='{HAIR}'/>",
        _text(LEFT, 14, f"{plot.title}, {plot.y_label}", INK),
    ]
    parts += _axes(plot, scales)
    if plot.kind == "image":
        parts.append(_image(plot, box, name))
    elif plot.kind == "bars":
        parts += _bars(plot, scales)
    else:
        parts += [_line(plot, trace, i, scales) for i, trace in enumerate(plot.traces)]
    parts += [_mark(x, words, scales) for x, words in plot.marks]
    if len(plot.traces) > 1:
        parts.append(_names(plot.traces, scales))
    return "".join(parts)


def _axes(plot: Plot, scales: _Scales) -> list[str]:
    parts = []
    for value in ticks(plot.low, plot.high, 6):
        y = scales.y(value)
        parts.append(f"<path d='M{LEFT} {y:.1f}H{scales.right}' stroke='{HAIR}'/>")
        parts.append(_text(LEFT - 4, y + 4, _short(value), anchor="end"))
    marks = log_ticks(scales.low, scales.high) if plot.log else ticks(scales.low, scales.high, 8)
    for value in plot.x if plot.kind == "bars" else marks:
        x = scales.x(value)
        if plot.kind != "bars":
            parts.append(f"<path d='M{x:.1f} {TOP}V{scales.foot}' stroke='{HAIR}'/>")
        parts.append(_text(x, scales.foot + 13, _short(value), anchor="middle"))
    parts.append(_text(scales.right, scales.foot + FOOT - 4, plot.x_label, anchor="end"))
    return parts


def ticks(low: float, high: float, most: int) -> list[float]:
    """Return round values within a range, at most so many."""
    span = high - low
    if span <= 0:
        return [low]
    step = 10.0 ** math.floor(math.log10(span / most))
    step = next(step * m for m in (1, 2, 3, 5, 6, 10, 20, 30, 50, 100) if span / (step * m) <= most)
    first = math.ceil(low / step - 1e-9)
    return [i * step for i in range(first, math.floor(high / step + 1e-9) + 1)]


def log_ticks(low: float, high: float) -> list[float]:
    """Return 1, 2 and 5 times the powers of ten within a range."""
    powers = range(math.floor(math.log10(low)), math.ceil(math.log10(high)) + 1)
    return [m * 10.0**p for p in powers for m in (1, 2, 5) if low <= m * 10.0**p <= high]


def _short(value: float) -> str:
    return _plain(value / 1000) + "k" if abs(value) >= 1000 else _plain(round(value, 6))


def _plain(value: float) -> str:
    return minus(f"{value + 0.0:g}")


def minus(words: str) -> str:
    """Return words with real minus signs before figures."""
    return re.sub(r"-(?=\d)", "\u2212", words)


def _line(plot: Plot, trace: Trace, index: int, scales: _Scales) -> str:
    points = [f"{scales.x(x):.1f} {scales.y(y):.1f}" for x, y in zip(plot.x, trace.y, strict=True)]
    dash = DASHES[index % len(DASHES)]
    colour = SLATE if trace.drawn else INK
    return (
        f"<path d='M{'L'.join(points)}' fill='none' stroke='{colour}' stroke-width='1.6'"
        f" stroke-dasharray='{dash}'/>"
    )


def _bars(plot: Plot, scales: _Scales) -> list[str]:
    count = len(plot.traces)
    slot = (scales.right - LEFT) / len(plot.x)
    wide = slot * 0.6 / count
    parts = []
    for i, trace in enumerate(plot.traces):
        for x, level in zip(plot.x, trace.y, strict=True):
            if level <= plot.low:
                continue
            left = scales.x(x) + (i - count / 2) * wide
            top, foot = scales.y(level), scales.foot
            fill = FIELD if trace.drawn else SLATE
            parts.append(
                f"<rect x='{left:.1f}' y='{top:.1f}' width='{wide:.1f}'"
                f" height='{foot - top:.1f}' fill='{fill}' stroke='{INK}'/>"
            )
            if count == 1 and top > TOP + 6:
                parts.append(_text(scales.x(x), top - 3, _short(round(level, 1)), anchor="middle"))
    return parts


def _mark(x: float, words: str, scales: _Scales) -> str:
    at = scales.x(x)
    line = f"<path d='M{at:.1f} {TOP}V{scales.foot}' stroke='{INK}' stroke-dasharray='1 3'/>"
    return line + _text(at + 4, TOP + 12, words, INK)


def _names(traces: list[Trace], scales: _Scales) -> str:
    parts = []
    for i, trace in enumerate(traces):
        x = scales.right - (len(traces) - i) * 130
        dash, colour = DASHES[i % len(DASHES)], SLATE if trace.drawn else INK
        parts.append(
            f"<path d='M{x} 10h18' stroke='{colour}' stroke-width='1.6' stroke-dasharray='{dash}'/>"
            + _text(x + 22, 14, trace.name)
        )
    return "".join(parts)


def _image(plot: Plot, box: str, name: str) -> str:
    """Return the levels as ink of more or less strength."""
    data = base64.b64encode(png(plot.levels[::-1])).decode()
    return (
        f"<mask id='{name}' style='mask-type:luminance'><image {box} preserveAspectRatio='none'"
        f" href='data:image/png;base64,{data}'/></mask>"
        f"<rect {box} fill='{INK}' mask='url(#{name})'/>"
    )


def png(rows: list[list[int]]) -> bytes:
    """Return rows of 0 to 255 as a grey picture (PNG, ISO/IEC 15948)."""
    raw = b"".join(b"\x00" + bytes(row) for row in rows)
    head = struct.pack(">IIBBBBB", len(rows[0]), len(rows), 8, 0, 0, 0, 0)
    chunks = ((b"IHDR", head), (b"IDAT", zlib.compress(raw)), (b"IEND", b""))
    return b"\x89PNG\r\n\x1a\n" + b"".join(
        struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))
        for kind, data in chunks
    )
