"""What goes to one worker together."""


def group(nodeid: str) -> str:
    """A module stays in one worker, so that its fixtures are made once. Benches share nothing: each goes alone, but for
    the one of this computer's audio, which never runs beside the tests of the same."""
    module = nodeid.partition("::")[0]
    if module.startswith("tests/devices/") or nodeid.endswith("[rig_figures]"):
        return "sound"
    return nodeid if module.startswith("tests/bench/") else module
