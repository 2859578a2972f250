"""Note values as times; a beat of the tempo is a quarter."""

from typing import Literal

Note = Literal[
    "1/1",
    "1/1.",
    "1/1t",
    "1/2",
    "1/2.",
    "1/2t",
    "1/4",
    "1/4.",
    "1/4t",
    "1/8",
    "1/8.",
    "1/8t",
    "1/16",
    "1/16.",
    "1/16t",
    "1/32",
    "1/32.",
    "1/32t",
    "1/64",
    "1/64.",
    "1/64t",
]


def note_ms(note: Note, bpm: float) -> float:
    """Return the length in ms of a note value at a tempo: 60 000 / bpm for a quarter.

    A trailing point lengthens by a half, a trailing t is a triplet (two thirds).
    """
    factor = {".": 1.5, "t": 2 / 3}.get(note[-1], 1.0)
    denominator = int(note.removeprefix("1/").rstrip(".t"))
    return 60_000 / bpm * 4 / denominator * factor
