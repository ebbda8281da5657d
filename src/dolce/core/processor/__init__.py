"""What a processor is told, and what it does with sound."""

from dolce.core.processor.settings import (
    BYPASS,
    ChannelSettings,
    Preset,
    ProcessorState,
    neutral_preset,
    processed,
)

__all__ = ["BYPASS", "ChannelSettings", "Preset", "ProcessorState", "neutral_preset", "processed"]
