"""From a recording to a response, and what can be read from responses."""

from dolce.core.response.arrival import Arrival, Polarity, find_arrival
from dolce.core.response.averaging import SpotAverage, average_over_spots, mean_spread_db
from dolce.core.response.bandwidths import auditory, equivalent_bandwidth_hz, finer_below
from dolce.core.response.capture import (
    NOISE_MATTERS_BELOW_DB,
    SUB_TOP_HZ,
    Capture,
    SweepDrowned,
    analyse_recording,
    records_bass_alone,
    without_response,
)
from dolce.core.response.caution import Caution
from dolce.core.response.clock_drift import (
    DRIFT_WORTH_PPM,
    ChirpsFound,
    drift_between_chirps_ppm,
    find_chirps,
    resampled,
    stretched,
    without_drift,
)
from dolce.core.response.curve_on_grid import curve_on_grid
from dolce.core.response.deconvolution import Deconvolver, precision_for
from dolce.core.response.electronics import InterfaceLoop, interface_loop
from dolce.core.response.impulse import ImpulseResponse
from dolce.core.response.impulse_file import TELLS_NOISE_FROM_S, is_impulse_response, response_of_file
from dolce.core.response.long_recording import part_with
from dolce.core.response.microphone import MicrophoneCurve
from dolce.core.response.moving_average import moving_average_level_db
from dolce.core.response.one_axis import from_emission
from dolce.core.response.one_more_position import Advice, advice_of, another_spot_db, spots_for
from dolce.core.response.quality import Quality, clipped_samples
from dolce.core.response.spectrum import (
    ANALYSIS_GRID_HZ,
    FrequencyResponse,
    GridLevels,
    grid_levels,
    level_on_grid,
    phase_deg,
    smoothed_level_db,
    transformed,
)
from dolce.core.response.spot_recording import RecordedPart, SpotResponses, recorded_parts
from dolce.core.response.sub_arrival import sub_arrival
from dolce.core.response.sync_chirp import OneClock, on_one_clock

__all__ = [
    "ANALYSIS_GRID_HZ",
    "DRIFT_WORTH_PPM",
    "NOISE_MATTERS_BELOW_DB",
    "SUB_TOP_HZ",
    "TELLS_NOISE_FROM_S",
    "Advice",
    "Arrival",
    "Capture",
    "Caution",
    "ChirpsFound",
    "Deconvolver",
    "FrequencyResponse",
    "GridLevels",
    "ImpulseResponse",
    "InterfaceLoop",
    "MicrophoneCurve",
    "OneClock",
    "Polarity",
    "Quality",
    "RecordedPart",
    "SpotAverage",
    "SpotResponses",
    "SweepDrowned",
    "advice_of",
    "analyse_recording",
    "another_spot_db",
    "auditory",
    "average_over_spots",
    "clipped_samples",
    "curve_on_grid",
    "drift_between_chirps_ppm",
    "equivalent_bandwidth_hz",
    "find_arrival",
    "find_chirps",
    "finer_below",
    "from_emission",
    "grid_levels",
    "interface_loop",
    "is_impulse_response",
    "level_on_grid",
    "mean_spread_db",
    "moving_average_level_db",
    "on_one_clock",
    "part_with",
    "phase_deg",
    "precision_for",
    "recorded_parts",
    "records_bass_alone",
    "resampled",
    "response_of_file",
    "smoothed_level_db",
    "spots_for",
    "stretched",
    "sub_arrival",
    "transformed",
    "without_drift",
    "without_response",
]
