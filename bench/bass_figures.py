"""Bass that loudspeakers share: how alike seats hear it where nothing was taken, what errors of life do to that, time.

Run `.venv/bin/python bench/bass_figures.py`; `--short` with one small room.
"""

import resource
import time
from dataclasses import dataclass, replace

import numpy as np
import scipy
from promises import SHORT, ended, line

from dolce.core.acoustics import modal_transfer
from dolce.core.bass import BassAim, BassMeasure, BassTakes, MainChannel, SharedBass, bass_of, shared_bass
from dolce.core.bass.lattice import FREQUENCY_HZ
from dolce.core.response import ImpulseResponse

RATE = 480
LATENCY_S, LENGTH_S, TO_HZ = 0.012, 0.4, 120.0
ENDS_HZ = {"main": 38.0, "sub": 20.0}


@dataclass(frozen=True, slots=True, kw_only=True)
class Room:
    """A box with loudspeakers and seats; `spots` are drawn around the seats."""

    size_m: tuple[float, float, float]
    mains: np.ndarray
    subs: np.ndarray
    seats: np.ndarray
    speed_m_s: float = 343.0

    def spots(self, rng: np.random.Generator, each: int) -> np.ndarray:
        """Places around every seat, the first its middle, shape (seats * each, 3)."""
        off = rng.uniform(-0.25, 0.25, (len(self.seats), each, 3)) * (1, 1, 0.3)
        off[:, 0] = 0
        return (self.seats[:, None] + off).reshape(-1, 3)

    def heard(self, places: np.ndarray) -> np.ndarray:
        """Spectra on the lattice, shape (loudspeakers, spots, frequencies); mains and subs fall off at their ends."""
        inside = (FREQUENCY_HZ > 5) & (FREQUENCY_HZ < 230)
        sources = np.concatenate([self.mains, self.subs])
        heard = np.zeros((len(sources), len(places), FREQUENCY_HZ.size), dtype=complex)
        heard[..., inside] = modal_transfer(
            sources,
            places,
            size_m=self.size_m,
            frequency_hz=FREQUENCY_HZ[inside],
            reverberation_s=0.45,
            speed_m_s=self.speed_m_s,
        )
        for k in range(len(sources)):
            end = ENDS_HZ["main" if k < len(self.mains) else "sub"]
            b, a = scipy.signal.butter(2, 2 * np.pi * end / 9**0.25, "high", analog=True)
            heard[k] *= scipy.signal.freqs(b, a, 2 * np.pi * FREQUENCY_HZ)[1]
        return heard

    def problem(self, places: np.ndarray, heard: np.ndarray) -> tuple[BassTakes, BassAim]:
        """Takes at places, and what is wanted there."""
        names = [f"M{k}" for k in range(len(self.mains))] + [f"S{k}" for k in range(len(self.subs))]
        rows = {
            name: [ImpulseResponse(sample=row, sample_rate_hz=RATE, start_s=0.0) for row in np.fft.irfft(of)]
            for name, of in zip(names, heard, strict=True)
        }
        each = len(places) // len(self.seats)
        seat_of = [f"seat {k // each}" for k in range(len(places))]
        ends = {name: ENDS_HZ["main" if name.startswith("M") else "sub"] for name in names}
        takes = BassTakes.of(rows, subs=[n for n in names if n.startswith("S")], seat_of=seat_of, ends_hz=ends)
        away = np.linalg.norm(places[None] - self.mains[:, None], axis=2) / self.speed_m_s
        late = away[:, 0].max() - away[:, 0]
        mains = [
            MainChannel.of(
                rows[f"M{k}"], level_db=0.0, delay_s=float(late[k]) + LATENCY_S, polarity=1, arrival_s=list(away[k])
            )
            for k in range(len(self.mains))
        ]
        aim = BassAim.of(
            takes, mains, target_db=np.zeros(FREQUENCY_HZ.size), hand_over_hz=TO_HZ, max_loss_db=4.0, main_seat="seat 0"
        )
        return takes, aim


def room_of(seed: int, *, mains: int, subs: int, seats: int) -> Room:
    """Loudspeakers along the walls, seats in the middle."""
    rng = np.random.default_rng(seed)
    size = np.array([rng.uniform(3.8, 5.6), rng.uniform(5.2, 7.6), rng.uniform(2.4, 3.0)])
    around = np.linspace(0, 2 * np.pi, mains, endpoint=False) + 0.4
    middle = size / 2
    on_walls = middle[:2] + np.stack([np.sin(around), -np.cos(around)], axis=1) * (middle[:2] - 0.35)
    places = np.column_stack([on_walls, rng.uniform(0.9, 2.0, mains)])
    corners = np.array([[0.3, 0.3, 0.25], [size[0] - 0.3, size[1] - 0.3, 0.25], [size[0] / 2, 0.3, 0.25]])[:subs]
    chairs = np.array([[middle[0] + 0.75 * (k % 3 - 1), 0.52 * size[1] + 0.95 * (k // 3), 1.15] for k in range(seats)])
    return Room(size_m=tuple(size), mains=places, subs=corners, seats=chairs[[1, 0, 2, 4, 3, 5][:seats]])


def found_in(room: Room, each: int, seed: int) -> tuple[SharedBass, np.ndarray, float]:
    """Filters from spots of a room, the spots, and how long it took."""
    places = room.spots(np.random.default_rng(seed), each)
    takes, aim = room.problem(places, room.heard(places))
    begun = time.perf_counter()
    made = shared_bass(takes, aim, length_s=LENGTH_S, latency_s=LATENCY_S)
    return made, places, time.perf_counter() - begun


def spread_elsewhere(room: Room, made: SharedBass) -> BassMeasure:
    """What is heard at spots that were not taken."""
    places = room.spots(np.random.default_rng(99), 6) + np.array([0.06, -0.05, 0.02])
    return BassMeasure(*room.problem(places, room.heard(places)))


def lives(room: Room, made: SharedBass, places: np.ndarray) -> list[tuple[str, float]]:
    """What one error does each to the spread at spots that were not taken, dB more than without it."""
    rng = np.random.default_rng(5)
    truth = spread_elsewhere(room, made)
    nominal = truth.of(bass_of(truth.takes, made.taps)).spread_db

    def again(name: str, at: np.ndarray, heard: np.ndarray, keep: list[int] | None = None) -> tuple[str, float]:
        takes, aim = room.problem(at, heard)
        if keep is not None:
            takes, aim = takes.at_spots(keep), aim.at_spots(keep)
        other = shared_bass(takes, aim, length_s=LENGTH_S, latency_s=LATENCY_S)
        return name, truth.of(bass_of(truth.takes, other.taps)).spread_db - nominal

    moved = places + rng.normal(0, 0.02 / np.sqrt(3), places.shape)
    heard = room.heard(places)
    noise = rng.normal(size=heard.shape) + 1j * rng.normal(size=heard.shape)
    level = np.sqrt(np.mean(np.abs(heard) ** 2, axis=-1, keepdims=True)) * 10 ** (-25 / 20) / np.sqrt(2)
    each = len(places) // len(room.seats)
    fewer = [k for k in range(len(places)) if k % each < each - 1]
    louder = truth.takes.heard.copy()
    louder[0] *= 10 ** (1 / 20)
    faster = replace(room, speed_m_s=1.005 * room.speed_m_s)
    later = spread_elsewhere(faster, made)
    anew = (
        []
        if SHORT
        else [
            again("microphone 2 cm off", places, room.heard(moved)),
            again("25 dB of signal above noise", places, heard + noise * level),
            again("one spot fewer at each seat", places, heard, fewer),
        ]
    )
    return [
        *anew,
        (
            "one loudspeaker 1 dB up afterwards",
            truth.of(bass_of(replace(truth.takes, heard=louder), made.taps)).spread_db - nominal,
        ),
        ("sound 0.5 % faster afterwards", later.of(bass_of(later.takes, made.taps)).spread_db - nominal),
    ]


def main() -> int:
    """Print all figures."""
    sizes = [(2, 1, 2, 3)] if SHORT else [(5, 2, 3, 4)] * 4
    spreads, holds, off = [], 0, []
    for seed, (mains, subs, seats, each) in enumerate(sizes):
        room = room_of(seed, mains=mains, subs=subs, seats=seats)
        made, places, took = found_in(room, each, seed)
        truth = spread_elsewhere(room, made)
        heard = truth.of(bass_of(truth.takes, made.taps))
        spreads.append(heard.spread_db)
        holds += made.expected.low_db <= heard.spread_db <= made.expected.high_db
        off.append(abs(made.expected.deviation_db - heard.deviation_db))
        what = f"{subs} subs, {mains} mains, {seats} seats, {len(places)} spots"
        line(f"room {seed}: {what}", f"{took:.1f} s", "20 s", took < 20)
        line("  spread where nothing was taken", f"{heard.spread_db:.2f} dB", "1 dB", heard.spread_db < 1.0)
        line("  output", f"{heard.output_db:.1f} dB", "-5 dB", heard.output_db > -5.0)
        if seed == 0:
            for name, more in lives(room, made, places):
                line(f"  {name}", f"{more:+.2f} dB of spread", "0.15 dB", more < 0.15)
    line("bounds of the spread hold", f"{holds} of {len(sizes)} rooms", "65 %", holds >= 0.65 * len(sizes))
    line("deviation said beforehand is off by", f"{np.median(off):.2f} dB", "0.3 dB", float(np.median(off)) < 0.3)
    if not SHORT:
        room = room_of(7, mains=11, subs=3, seats=6)
        _, places, took = found_in(room, 4, 7)
        line(f"3 subs, 11 mains, 6 seats, {len(places)} spots", f"{took:.1f} s", "60 s", took < 60)
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    line("memory at its highest", f"{peak:.0f} MB", "500 MB", peak < 500)
    return ended()


if __name__ == "__main__":
    raise SystemExit(main())
