"""Ways out: their names, what is refused, the rate that sound has on them."""

import pytest

from salt_anvil.core.delivery.ways import CODERS, USUAL, Way, way_of
from salt_anvil.core.errors import SettingError

OTHERS = (
    Way(),
    Way(rate=44100, bits=16, dither="before"),
    Way(rate=48000, codec="opus", kbps=64),
)


@pytest.mark.parametrize("way", [*USUAL, *OTHERS])
def test_a_name_is_read_back(way: Way) -> None:
    if way != Way():
        assert way_of(way.name) == way
        assert way.words != "as it stands"


def test_words() -> None:
    assert way_of("44100:16").words == "44.1 kHz, 16 bit, dither last"
    assert way_of("44100:16:before").words == "44.1 kHz, 16 bit, dither before conversion"
    assert way_of("MP3:128").words == "MP3 128 kbit/s"
    assert way_of("24").words == "24 bit"


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("mp4:3", "no way out"), ("mp3", "given together"), ("mp3:127", "is made with 96, 128"),
        ("44100:opus:96", "Opus needs 48 kHz: refused 44.1"), ("22050", "no rate of a way out"),
        ("before", "needs a rate and a width"), ("", "no way out"), ("44100:48000", "no way out"),
    ],
)  # fmt: skip
def test_what_is_no_way_is_refused_in_words(text: str, said: str) -> None:
    with pytest.raises(SettingError, match=said):
        way_of(text)


@pytest.mark.parametrize("rate", [44100, 48000, 88200, 96000, 192000])
@pytest.mark.parametrize("codec", CODERS)
def test_a_coder_is_given_a_rate_that_it_takes(rate: int, codec: str) -> None:
    way = Way(codec=codec, kbps=CODERS[codec].kbps[0])  # type: ignore[arg-type, index]
    at = way.rate_at(rate)
    assert at in CODERS[codec].rates  # type: ignore[index]
    assert at == rate or rate not in CODERS[codec].rates  # type: ignore[index]
