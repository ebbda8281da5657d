"""How loud each band gets through each of what is compared, as plots."""

import numpy as np

from dolce.services.load.audition import Audition
from dolce.web.shared.plot_data import RANGE_DB, frequency_plot, range_around


def pressure_plots(audition: Audition) -> dict[str, dict]:
    """Mean and highest level of third octaves, on one scale; in dB SPL where pressure is known."""
    offset = audition.full_scale_spl_db
    bands = next(iter(audition.pressure.values()))
    highest = max(float(pressure.highest_db.max()) for pressure in audition.pressure.values()) + (offset or 0.0)

    def plot(part: str) -> dict:
        return frequency_plot(
            np.round(bands.frequency_hz, 2).tolist(),
            [
                {
                    "label": audition.names[key].partition(":")[0],
                    "channel": f"heard-{place}",
                    "state": "after",
                    "y": np.round(getattr(audition.pressure[key], part) + (offset or 0.0), 2).tolist(),
                    "note": "",
                }
                for place, key in enumerate(audition.keys)
            ],
            x_range=(20.0, 20_000.0),
            y_range=range_around(highest, least_db=RANGE_DB),
            unit="dBFS" if offset is None else "dB SPL",
        )

    return {"mean": plot("mean_db"), "highest": plot("highest_db")}
