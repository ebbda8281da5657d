"""What a processor is told, and what it does with sound."""

from dolce.core.processor.settings import (
    BYPASS,
    ChannelSettings,
    Preset,
    ProcessorState,
    processed,
)

__all__ = ["BYPASS", "ChannelSettings", "Preset", "ProcessorState", "processed"]
