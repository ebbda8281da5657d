"""An alignment put together from what was found of its parts: main channels by the alignment table, subs as a group."""

from dataclasses import replace

from dolce.core.alignment import AlignmentTable
from dolce.core.processor import AllPass
from dolce.core.subs import SUBS, SubGroup
from dolce.core.tuning.alignment import Alignment, ChannelAlignment
from dolce.core.tuning.steps import on_step


def with_table(
    alignment: Alignment, alignment_table: AlignmentTable, *, delay_step_s: float, trim_step_db: float = 0.1
) -> Alignment:
    """The alignment with trims, delays and polarities as an alignment table proposes them.

    Where the subs are a group, the table has one row for it (`SUBS`), whose trim the loudest of them gets; delays
    count from main channels that arrive together. None is below 0: a group that has to be earlier delays the others.
    """
    group = alignment.subs
    channel_rows = {channel_row.reading.channel: channel_row for channel_row in alignment_table.channel_rows}
    channels = {
        channel: replace(
            alignment.channels.get(channel, ChannelAlignment()),
            trim_db=channel_row.trim_db,
            delay_s=on_step(channel_row.delay_s, delay_step_s),
            polarity="inverted" if channel_row.reading.polarity == "inverted" else "normal",
        )
        for channel, channel_row in channel_rows.items()
        if channel != SUBS
    }
    if group is not None and SUBS in channel_rows:
        channels = _with_group(
            alignment, channels, group, channel_rows[SUBS].trim_db, delay_step_s=delay_step_s, trim_step_db=trim_step_db
        )
    return replace(alignment, channels={**alignment.channels, **channels})


def _with_group(
    alignment: Alignment,
    main_channels: dict[str, ChannelAlignment],
    group: SubGroup,
    trim_db: float,
    *,
    delay_step_s: float,
    trim_step_db: float,
) -> dict[str, ChannelAlignment]:
    picture = alignment.levels.lip_sync_s
    delays = {sub: group.delay_of(sub) + picture for sub in group.settings}
    delays |= {channel: alignment.delay_s for channel, alignment in main_channels.items()}
    # None below what the picture asks for, and no more than needed.
    later = picture - min(delays.values())
    steps = {channel: on_step(delay + later, delay_step_s) for channel, delay in delays.items()}
    subs = {
        sub: replace(
            alignment.channels.get(sub, ChannelAlignment()),
            trim_db=on_step(trim_db + setting.gain_db, trim_step_db),
            delay_s=steps[sub],
            polarity="inverted" if group.inverted(sub) else "normal",
            all_pass=tuple(AllPass(frequency_hz=frequency, q=q) for frequency, q in setting.all_pass),
        )
        for sub, setting in group.settings.items()
    }
    return {
        **{channel: replace(alignment, delay_s=steps[channel]) for channel, alignment in main_channels.items()},
        **subs,
    }


def main_channels_later_s(alignment: Alignment) -> float:
    """By how much the group of subs makes the main channels later than they need be among themselves."""
    subs = set(alignment.subs.settings) if alignment.subs else set()
    delays = [settings.delay_s for channel, settings in alignment.channels.items() if channel not in subs]
    return max(0.0, min(delays, default=0.0) - alignment.levels.lip_sync_s)
