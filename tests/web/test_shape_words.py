import numpy as np

from dolce.core.filters import BandFilter, chain_level_db
from dolce.core.tuning import Band
from dolce.web.stops.shape.views import BandRow, strong_words

AT = np.geomspace(20, 20_000, 900)


def words(*gains, on=(True, True)):
    """Of two bands at one place, the second half as wide, where all together may raise 3 dB."""
    bands = [
        Band(filter=BandFilter(frequency_hz=60, gain_db=gain, q=q), on=is_on)
        for gain, q, is_on in zip(gains, (2, 4), on, strict=True)
    ]
    level = chain_level_db([band.filter for band in bands if band.on], at_hz=AT, sample_rate_hz=48_000)
    rows = [BandRow(letter=letter, band=band) for letter, band in zip("ab", bands, strict=True)]
    return strong_words(rows, level, 3.0)


def test_a_band_that_alone_would_raise_more_than_all_may_is_named():
    assert words(4.5, -6) == ("More than +3 dB alone: a 4.5 dB. With the cuts beside them the sum stays within.")


def test_nothing_is_said_of_bands_within_the_limit_switched_off_or_typed_beyond_it():
    assert not words(3, -6)
    assert not words(4.5, -6, on=(False, True))
    assert not words(4.5, -0.3)
