"""What goes to one worker together."""

from xdist.scheduler import LoadScopeScheduling


class ByModule(LoadScopeScheduling):
    """A module stays in one worker, so that its fixtures are made once. Benches share nothing: each goes alone, but for
    the one of this computer's audio, which never runs beside the tests of the same."""

    def _split_scope(self, nodeid: str) -> str:
        module, _, rest = nodeid.partition("::")
        if module.startswith("tests/devices/") or rest.endswith("[rig_figures]"):
            return "sound"
        return nodeid if module.startswith("tests/bench/") else module
