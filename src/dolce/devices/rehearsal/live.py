"""The simulated room heard block by block: what still rings is carried over."""

from collections.abc import Mapping, Sequence
from typing import Protocol

import numpy as np
import scipy
from numpy.typing import NDArray

from dolce.core.geometry import Point
from dolce.devices.interface import LIVE_BLOCK_S
from dolce.devices.rehearsal.chain import Chain
from dolce.devices.rehearsal.electronics import converted
from dolce.devices.rehearsal.noise import room_noise
from dolce.devices.rehearsal.speakers import PlacedSpeaker

HOWL_HZ, HOWL_DB_PER_S = 1240.0, 90.0


class SoundingRig(Protocol):
    """What live sound asks of the rig that it is heard with."""

    @property
    def microphones(self) -> Sequence[Point]: ...
    @property
    def chain(self) -> Chain: ...
    @property
    def seed(self) -> str: ...
    @property
    def calibrator_spl_db(self) -> float | None: ...
    @property
    def preamplifier_db(self) -> float: ...
    @property
    def path(self) -> Sequence[Point]: ...
    @property
    def path_s(self) -> float: ...
    def sounding(self, output: int) -> PlacedSpeaker: ...
    def has_fault(self, kind: str) -> bool: ...
    def disturbed(self, noise: NDArray, rate: int) -> NDArray: ...
    def calibrator(self, time_s: NDArray) -> NDArray: ...
    def response_of(self, channel: str, microphone: Point, rate: int, number: int = 0) -> NDArray: ...


class LiveRoom:
    """One stream of live sound."""

    _NOISE_S = 5.0

    def __init__(self, rig: SoundingRig, rate: int, count: int) -> None:
        self.rig, self._rate, self._count = rig, rate, count
        self._paths: dict[tuple[str, Point, int], tuple[int, int, NDArray]] = {}
        self._ringing = np.zeros((len(rig.microphones), 0))
        self._fed: dict[str, NDArray] = {}
        self._block, self._howl = 0, 1e-4
        quiet = rig.disturbed(room_noise(f"{rig.seed}/live", round(self._NOISE_S * rate), rate), rate)
        self._quiet = np.array([np.roll(quiet, k * rate) for k in range(len(rig.microphones))])

    def hear(self, played: Mapping[int, NDArray]) -> NDArray:
        """The next block at all microphones, of what each output plays."""
        rig, count = self.rig, self._count
        arrived = np.zeros((len(rig.microphones), max(count, self._ringing.shape[1])))
        arrived[:, : self._ringing.shape[1]] += self._ringing
        sounding = {rig.sounding(output).channel: samples for output, samples in played.items() if samples.any()}
        self._fed = {channel: self._warmed(channel, samples) for channel, samples in sounding.items()}
        for channel, samples in self._fed.items():
            for code, fed in rig.chain.fed(samples, channel, self._rate):
                for number in range(len(rig.microphones)):
                    wet = self._wet(code, fed[-count:], number)
                    if wet.size > arrived.shape[1]:
                        arrived = np.pad(arrived, ((0, 0), (0, wet.size - arrived.shape[1])))
                    arrived[number, : wet.size] += wet
        self._ringing = arrived[:, count:]
        now = arrived[:, :count].copy()
        at = self._block * count
        now += self._quiet.take(np.arange(at, at + count), axis=1, mode="wrap")
        if rig.calibrator_spl_db is not None:
            now[0] = rig.calibrator((at + np.arange(count)) / self._rate)
        if rig.has_fault("feedback"):
            time_s = np.arange(count) / self._rate
            now += np.minimum(self._howl * 10 ** (HOWL_DB_PER_S / 20 * time_s), 2.0) * np.sin(
                2 * np.pi * HOWL_HZ * (time_s + at / self._rate)
            )
            self._howl = min(2.0, self._howl * 10 ** (HOWL_DB_PER_S / 20 * LIVE_BLOCK_S))
        self._block += 1
        return converted(now * 10 ** (rig.preamplifier_db / 20))

    def _warmed(self, channel: str, samples: NDArray) -> NDArray:
        """The block with some of what was fed before it, so that filters of the chain are in their stride."""
        before = self._fed.get(channel, np.zeros(0))
        return np.concatenate([before, samples])[-5 * self._count :]

    def _wet(self, code: str, fed: NDArray, number: int) -> NDArray:
        """What a block leaves at a microphone, with its ringing."""
        rig, place = self.rig, self.rig.microphones[number]
        if number == 0 and rig.path:
            turns = self._block * LIVE_BLOCK_S / rig.path_s
            place = rig.path[int(turns * len(rig.path)) % len(rig.path)]
        key = (code, place, number)
        if key not in self._paths:
            path = rig.response_of(code, place, self._rate, number)
            size = scipy.fft.next_fast_len(path.size + self._count, real=True)
            self._paths[key] = (path.size + self._count - 1, size, scipy.fft.rfft(path, size))
        length, size, spectrum = self._paths[key]
        return scipy.fft.irfft(scipy.fft.rfft(fed, size) * spectrum, size)[:length]
