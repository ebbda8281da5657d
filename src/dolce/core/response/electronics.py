"""The interface itself, heard through a cable from an output to an input: its response and latency."""

from dataclasses import dataclass

import numpy as np
import scipy
from numpy.typing import NDArray

from dolce.core.dsp import delay_response, in_band
from dolce.core.response.capture import analyse_recording
from dolce.core.response.deconvolution import Deconvolver
from dolce.core.response.microphone import MicrophoneCurve
from dolce.errors import InvalidValue

_POINTS_HZ = np.geomspace(10, 22_000, 161)
_CLEAN_DB = 30.0  # a cable is clean; what a sweep of 1 s leaves outside its window allows 36
_SETTLED = 0.995  # of the energy within 20 ms: no room behind it


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class InterfaceLoop:
    """What the electronics add.

    Attributes
    ----------
    latency_s : float
        From the first sample played to its arrival at the input.
    response : MicrophoneCurve
        Level (0 dB around 1 kHz) and the phase that is left when the latency is taken out.
    gain_db : float
        Level around 1 kHz: what comes in against what went out.
    sample_rate_hz : int
        The rate it holds for.
    device : str
        The device it holds for.
    """

    latency_s: float
    response: MicrophoneCurve
    gain_db: float
    sample_rate_hz: int
    device: str


def interface_loop(recording: NDArray[np.float64], *, deconvolver: Deconvolver, device: str) -> InterfaceLoop:
    """The loop's latency and response from the recording of a sweep.

    Raises
    ------
    InvalidValue
        If nothing came in, or if it sounds like a microphone in a room.
    """
    try:
        capture = analyse_recording(recording, deconvolver=deconvolver)
    except InvalidValue:
        raise InvalidValue(
            "nothing of the sweep came back.",
            where="loop",
            remedy="Join the loop's output and input by a cable, and check both numbers.",
        ) from None
    response, rate = capture.response, deconvolver.sample_rate_hz
    time = response.time_s
    energy = response.sample**2
    near = np.abs(time - capture.arrival.time_s) < 0.02
    if capture.quality.signal_to_noise_db < _CLEAN_DB or energy[near].sum() < _SETTLED * energy.sum():
        raise InvalidValue(
            "that sounds like a microphone in a room, not like a cable.",
            where="loop",
            remedy="Check which input the cable is plugged into.",
        )
    if capture.quality.clipped_samples:
        raise InvalidValue("the loop's input clips.", where="loop", remedy="Turn its gain down, or switch its pad on.")
    size = scipy.fft.next_fast_len(max(time.size, rate), real=True)  # bins at most 1 Hz apart
    bins = np.unique(np.rint(_POINTS_HZ[0.47 * rate > _POINTS_HZ] * size / rate).astype(int))
    frequency = bins * rate / size
    until_arrival = capture.arrival.time_s - time[0]
    spectrum = scipy.fft.rfft(response.sample, size)[bins] * delay_response(frequency, -until_arrival)
    level = 20 * np.log10(np.abs(spectrum))
    gain = float(np.mean(level[in_band(frequency, (700, 1400))]))
    return InterfaceLoop(
        latency_s=capture.arrival.time_s,
        gain_db=gain,
        sample_rate_hz=rate,
        device=device,
        response=MicrophoneCurve(
            frequency_hz=frequency, level_db=level - gain, phase_deg=np.degrees(np.unwrap(np.angle(spectrum)))
        ),
    )
