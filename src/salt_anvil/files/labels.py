"""What a file says of itself: names, cue markers, and for broadcast its loudness and history."""

import datetime
import struct
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from salt_anvil.core.measure.rows import Figures

PROGRAM = "Salt Anvil"
BEXT_BYTES = 602
NO_FIGURE = 0x7FFF
"""What a loudness field holds where there is none (EBU Tech 3285 v2)."""


@dataclass(frozen=True)
class Labels:
    """Names of a recording; cues: frame and label. made_at: seconds since 1970, for broadcast."""

    title: str = ""
    artist: str = ""
    isrc: str = ""
    comment: str = ""
    cues: Sequence[tuple[int, str]] = ()
    made_at: float = 0.0

    @property
    def named(self) -> bool:
        """Whether there is any name in it."""
        return bool(self.title or self.artist or self.isrc or self.comment)


def bext(
    labels: Labels, figures: Figures, *, rate: int, bits: int, channels: int, start: int, said: str
) -> bytes:
    """Return a broadcast extension, version 2 (EBU Tech 3285, 2011), with a history of one line.

    start: frames since midnight at which it begins. said: what was done, for the history's text.
    """
    made = datetime.datetime.fromtimestamp(labels.made_at, datetime.UTC)
    loudness = (
        figures.integrated_lufs, figures.loudness_range_lu, figures.true_peak_dbtp,
        figures.momentary_max_lufs, figures.short_term_max_lufs,
    )  # fmt: skip
    fixed = struct.pack(
        "<256s32s32s10s8sQH64s5h180x",
        _text(" - ".join(t for t in (labels.artist, labels.title, labels.comment) if t), 256),
        _text(PROGRAM, 32),
        _text(labels.isrc or f"SA{int(labels.made_at)}", 32),
        made.strftime("%Y-%m-%d").encode(),
        made.strftime("%H:%M:%S").encode(),
        start,
        2,
        b"",
        *(NO_FIGURE if v is None else round(100 * v) for v in loudness),
    )
    assert len(fixed) == BEXT_BYTES
    mode = "mono" if channels == 1 else "stereo"
    history = f"A=PCM,F={rate},W={bits or 32},M={mode},T={PROGRAM}; {said}\r\n"
    return fixed + _text(history, 400)


def history_room() -> int:
    """Return the bytes that a broadcast extension takes: its history has a fixed room."""
    return BEXT_BYTES + 400


def cue_chunks(cues: Sequence[tuple[int, str]]) -> list[tuple[bytes, bytes]]:
    """Return the chunks of cue markers (RIFF MCI 1.0, 1991)."""
    if not cues:
        return []
    points = struct.pack("<I", len(cues))
    labels = b"adtl"
    for number, (frame, words) in enumerate(cues, 1):
        points += struct.pack("<II4sIII", number, frame, b"data", 0, 0, frame)
        text = words.encode() + b"\0"
        labels += struct.pack("<4sII", b"labl", 4 + len(text), number) + text
        labels += b"\0" * (len(text) % 2)
    return [(b"cue ", points), (b"LIST", labels)]


def info_chunk(labels: Labels) -> list[tuple[bytes, bytes]]:
    """Return the LIST INFO chunk of a WAV file, and the ISRC in an axml chunk (EBU Tech 3352)."""
    found = b""
    fields = ((b"INAM", labels.title), (b"IART", labels.artist), (b"ICMT", labels.comment))
    for name, words in fields:
        if words:
            text = words.encode() + b"\0"
            found += struct.pack("<4sI", name, len(text)) + text + b"\0" * (len(text) % 2)
    chunks = [(b"LIST", b"INFO" + found)] if found else []
    if labels.isrc:
        # Tech 3352 (2012), from memory.
        axml = (
            '<?xml version="1.0" encoding="UTF-8"?>'
            '<ebuCoreMain xmlns="urn:ebu:metadata-schema:ebuCore_2012"'
            ' xmlns:dc="http://purl.org/dc/elements/1.1/"><coreMetadata>'
            '<identifier typeLabel="GUID" typeDefinition="Globally Unique Identifier"'
            ' formatLabel="ISRC" formatDefinition="International Standard Recording Code">'
            f"<dc:identifier>ISRC:{labels.isrc}</dc:identifier></identifier>"
            "</coreMetadata></ebuCoreMain>"
        )
        chunks.append((b"axml", axml.encode()))
    return chunks


def tag(path: Path, container: str, labels: Labels, rate: int) -> None:
    """Write names (and cues, as chapters) into a finished file that is not WAV."""
    chapters = [(frame / rate, words) for frame, words in labels.cues]
    if not labels.named and not chapters:
        return
    if container in ("flac", "vorbis", "opus"):
        _comments(path, container, labels, chapters)
    elif container == "aac":
        _mp4(path, labels)
    else:
        _id3(path, container, labels, chapters)


def _comments(
    path: Path, container: str, labels: Labels, chapters: list[tuple[float, str]]
) -> None:
    from mutagen.flac import FLAC
    from mutagen.oggopus import OggOpus
    from mutagen.oggvorbis import OggVorbis

    kinds: dict[str, Any] = {"flac": FLAC, "vorbis": OggVorbis, "opus": OggOpus}
    file = kinds[container](path)
    fields = {
        "title": labels.title, "artist": labels.artist, "isrc": labels.isrc,
        "comment": labels.comment,
    }  # fmt: skip
    # Chapters in comments: common practice, no source.
    for index, (seconds, words) in enumerate(chapters):
        clock = f"{int(seconds // 3600):02}:{int(seconds // 60) % 60:02}:{seconds % 60:06.3f}"
        fields |= {f"CHAPTER{index:03}": clock, f"CHAPTER{index:03}NAME": words}
    for name, value in fields.items():
        if value:
            file[name] = value
    file.save()


def _mp4(path: Path, labels: Labels) -> None:
    from mutagen.mp4 import MP4

    file = MP4(path)
    for name, value in (
        ("\xa9nam", labels.title), ("\xa9ART", labels.artist), ("\xa9cmt", labels.comment),
    ):  # fmt: skip
        if value:
            file[name] = value
    file.save()  # the format has no field for an ISRC


def _id3(path: Path, container: str, labels: Labels, chapters: list[tuple[float, str]]) -> None:
    from mutagen import id3
    from mutagen.aiff import AIFF
    from mutagen.mp3 import MP3

    file = (AIFF if container == "aiff" else MP3)(path)
    if file.tags is None:
        file.add_tags()
    tags: Any = file.tags
    for frame, value in (
        (id3.TIT2, labels.title), (id3.TPE1, labels.artist), (id3.TSRC, labels.isrc),
    ):  # fmt: skip
        if value:
            tags.add(frame(encoding=3, text=[value]))
    if labels.comment:
        tags.add(id3.COMM(encoding=3, lang="eng", desc="", text=[labels.comment]))
    for index, (seconds, words) in enumerate(chapters):
        begin = round(1000 * seconds)
        name = id3.TIT2(encoding=3, text=[words])
        tags.add(
            id3.CHAP(
                element_id=f"c{index}",
                start_time=begin,
                end_time=begin,
                start_offset=0xFFFFFFFF,
                end_offset=0xFFFFFFFF,
                sub_frames=[name],
            )
        )
    file.save()


def _text(words: str, size: int) -> bytes:
    """Return words as ASCII of a size; what is not ASCII is a question mark, as readers expect."""
    return words.encode("ascii", "replace")[:size].ljust(size, b"\0")
