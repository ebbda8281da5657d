"""The one base error and its few kinds. A message says what is wrong, where, and what to do about it."""


class DolceError(Exception):
    """Something the user can read and act on.

    Parameters
    ----------
    problem : str
        What is wrong, with the value seen. One sentence.
    where : str
        The field, file or line it is about; may be empty.
    remedy : str
        What to do; may be empty.
    """

    def __init__(self, problem: str, *, where: str = "", remedy: str = "") -> None:
        super().__init__(problem)
        self.problem = problem
        self.where = where
        self.remedy = remedy

    def __str__(self) -> str:
        start = f"{self.where}: " if self.where else ""
        end = f" {self.remedy}" if self.remedy else ""
        return f"{start}{self.problem}{end}"


class InvalidValue(DolceError, ValueError):
    """A value outside its allowed range or of the wrong kind."""


class NotFound(DolceError, LookupError):
    """Something asked for by number or name that is not there."""


class FormatError(DolceError, ValueError):
    """A file that cannot be read as what it should be."""


class DeviceError(DolceError, RuntimeError):
    """The audio interface, microphone or processor cannot do what was asked."""


class Conflict(DolceError, RuntimeError):
    """What was asked collides with the present state, such as a running pass."""


class Outdated(Conflict):
    """What was asked was meant for a state that another tab has changed since."""


class StorageError(DolceError, RuntimeError):
    """The disk or the database cannot keep or give what was asked."""


class Damaged(DolceError, ValueError):
    """Something that was kept once and cannot be read any more."""


class InvalidForm(DolceError, ValueError):
    """A form with faults: one InvalidValue per field name."""

    def __init__(self, faults: dict[str, str]) -> None:
        super().__init__("; ".join(f"{name}: {text}" for name, text in faults.items()))
        self.faults = faults
