"""Sound in air."""

import math

from dolce.core import checked


def speed_of_sound(temperature_c: float) -> float:
    """Speed of sound in dry air, in m/s.

    Parameters
    ----------
    temperature_c : float
        -50 to 60 degrees Celsius.

    Raises
    ------
    InvalidValue
        If the temperature lies outside that range.

    References
    ----------
    Ideal-gas law for dry air; A. D. Pierce, "Acoustics", ch. 1. 343.2 m/s at 20 degrees.
    """
    temperature = checked.within(temperature_c, low=-50, high=60, where="temperature", unit="°C")
    return 331.3 * math.sqrt(1 + temperature / 273.15)
