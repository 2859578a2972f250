"""Ways out: what may happen to a mix after it leaves, as a rate, a width and a coder."""

from dataclasses import dataclass
from typing import Literal, Self

from pydantic import Field, model_validator

from salt_anvil.core.errors import SettingError
from salt_anvil.core.session import Model

Codec = Literal["mp3", "aac", "opus", "vorbis"]


@dataclass(frozen=True)
class Coder:
    """A coder: its name, its rates of data in kbit/s, and the sample rates that it takes, in Hz.

    most_a_channel: kbit/s that one channel can use.
    """

    title: str
    kbps: tuple[int, ...]
    rates: tuple[int, ...]
    most_a_channel: int


CODERS: dict[Codec, Coder] = {
    "mp3": Coder("MP3", (96, 128, 160, 192, 256, 320), (44100, 48000), 320),
    "aac": Coder("AAC", (96, 128, 160, 192, 256, 320), (44100, 48000, 96000), 256),
    "opus": Coder("Opus", (48, 64, 96, 128, 160, 256), (48000,), 256),
    "vorbis": Coder("Vorbis", (64, 96, 128, 160, 192, 256, 320), (44100, 48000, 96000), 320),
}
WAY_RATES = (44100, 48000, 96000)


class Way(Model):
    """A way out, in this order: rate, width, coder; what is None stays as it is.

    dither: TPDF where bits are dropped, last; or before the rate is converted, which is the wrong
    order: the converter's result is then rounded once more, without any.
    """

    rate: int | None = Field(None, ge=8000, le=192000)
    bits: Literal[16, 24] | None = None
    dither: Literal["last", "before"] = "last"
    codec: Codec | None = None
    kbps: int | None = None

    @model_validator(mode="after")
    def _whole(self) -> Self:
        if (self.codec is None) != (self.kbps is None):
            raise ValueError("a coder and its kbit/s are given together")
        if self.codec is not None:
            coder = CODERS[self.codec]
            if self.kbps not in coder.kbps:
                known = ", ".join(map(str, coder.kbps))
                raise ValueError(f"{coder.title} is made with {known} kbit/s")
            if self.rate is not None and self.rate not in coder.rates:
                known = ", ".join(f"{r / 1000:g}" for r in coder.rates)
                raise ValueError(f"{coder.title} needs {known} kHz: refused {self.rate / 1000:g}")
        if self.rate is not None and self.rate not in WAY_RATES:
            raise ValueError(f"{self.rate} Hz is no rate of a way out: 44100, 48000 or 96000 is")
        if self.dither == "before" and (self.rate is None or self.bits is None):
            raise ValueError("dither before conversion needs a rate and a width")
        return self

    @property
    def name(self) -> str:
        """What it is called in files and on the command line, as `way_of` reads it."""
        parts = [str(self.rate)] if self.rate else []
        parts += [str(self.bits)] if self.bits else []
        parts += ["before"] if self.dither == "before" else []
        parts += [self.codec, str(self.kbps)] if self.codec else []
        return ":".join(parts) or "as-it-stands"

    @property
    def words(self) -> str:
        """What it is called on the page."""
        parts = [f"{self.rate / 1000:g} kHz"] if self.rate else []
        if self.bits:
            order = {"last": ", dither last", "before": ", dither before conversion"}
            parts.append(f"{self.bits} bit{order[self.dither] if self.rate else ''}")
        if self.codec:
            parts.append(f"{CODERS[self.codec].title} {self.kbps} kbit/s")
        return ", ".join(parts) or "as it stands"

    def rate_at(self, rate: int) -> int:
        """Return the rate that sound of a rate has on this way: a coder may need another one."""
        wanted = self.rate or rate
        if self.codec is None or wanted in CODERS[self.codec].rates:
            return wanted
        return 44100 if wanted == 88200 and 44100 in CODERS[self.codec].rates else 48000


USUAL = (
    Way(rate=44100, bits=24),
    Way(rate=44100, bits=16),
    Way(codec="mp3", kbps=128),
    Way(codec="aac", kbps=256),
    Way(codec="opus", kbps=96),
)
"""Looked at where nothing else is asked for."""


def way_of(text: str) -> Way:
    """Return the way that a text names: "44100", "44100:16", "44100:16:before", "mp3:128".

    Raises:
        SettingError: it names none, or one that cannot be gone.
    """
    found: dict[str, object] = {}
    words = text.lower().split(":")
    while words:
        word = words.pop(0)
        if word in CODERS:
            found["codec"] = word
            found["kbps"] = int(words.pop(0)) if words and words[0].isdigit() else None
        elif word in ("16", "24"):
            found["bits"] = int(word)
        elif word.isdigit() and "rate" not in found:
            found["rate"] = int(word)
        elif word == "before":
            found["dither"] = word
        else:
            raise SettingError(
                f"“{text}” is no way out; such are: 44100, 44100:16, 44100:16:before, mp3:128,"
                " aac:256, opus:96, vorbis:192"
            )
    try:
        return Way.model_validate(found)
    except ValueError as error:
        said = str(error).splitlines()
        words_of = [line.strip() for line in said if "Value error, " in line]
        reason = words_of[0].split("Value error, ", 1)[1] if words_of else "it cannot be gone"
        raise SettingError(f"{text}: {reason.split(' [type=')[0]}") from None
