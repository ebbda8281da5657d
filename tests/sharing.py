"""What goes to one worker together."""

from xdist.scheduler import LoadScopeScheduling


def group(nodeid: str) -> str:
    """A module stays in one worker, so that its fixtures are made once. Benches and walks share nothing: each goes
    alone, but for the bench of this computer's audio, which never runs beside the tests of the same."""
    module = nodeid.partition("::")[0]
    if module.startswith("tests/devices/") or nodeid.endswith("[rig_figures]"):
        return "sound"
    return nodeid if module.startswith("tests/bench/") or module.endswith("/test_next_line_walk.py") else module


class InGroups(LoadScopeScheduling):
    """Hands out whole groups, in the order of their names: what takes longest comes first. (Marks of
    `--dist=loadgroup` are lost on the way with the versions that are pinned.)"""

    def _split_scope(self, nodeid: str) -> str:
        return group(nodeid)
