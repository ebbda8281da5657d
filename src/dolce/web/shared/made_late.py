"""What a start need not wait for: builders of addresses come at their first use, templates compile once a process."""

from collections.abc import Callable
from typing import Any

from jinja2 import BytecodeCache
from jinja2.bccache import Bucket
from werkzeug.routing import Rule


class LateRule(Rule):
    """A rule whose builder is made when its address is wanted first.

    Werkzeug compiles two for every rule at once, which took most of the time of making an application.
    """

    def _compile_builder(self, append_unknown: bool = True) -> Callable[..., Any]:
        made: list[Callable[..., Any]] = []

        def build(*values: Any, **named: Any) -> Any:
            if not made:
                made.append(super(LateRule, self)._compile_builder(append_unknown))
            return made[0](*values, **named)

        return build


class CompiledTemplates(BytecodeCache):
    """Compiled templates of this process, by name and source: the seat's application uses those of the pages."""

    def __init__(self) -> None:
        self._kept: dict[tuple[str, str], bytes] = {}

    def load_bytecode(self, bucket: Bucket) -> None:
        kept = self._kept.get((bucket.key, bucket.checksum))
        if kept is not None:
            bucket.bytecode_from_string(kept)

    def dump_bytecode(self, bucket: Bucket) -> None:
        self._kept[bucket.key, bucket.checksum] = bucket.bytecode_to_string()


COMPILED = CompiledTemplates()
