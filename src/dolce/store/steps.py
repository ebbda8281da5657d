"""The steps that bring the tables up to date, known by the names of their files.

Alembic is loaded only where a step has to be run: most starts find everything up to date.
"""

from functools import cache
from importlib import resources

from sqlalchemy import Engine

_STEPS = "dolce.store.migrations"


@cache
def known_steps() -> tuple[str, ...]:
    """Numbers of all steps in their order, such as "0007"; a file's name begins with its step's number."""
    files = resources.files(_STEPS).joinpath("versions").iterdir()
    return tuple(sorted(file.name[:4] for file in files if file.name[:4].isdigit() and file.name.endswith(".py")))


def newest_step() -> str:
    """The last of them."""
    return known_steps()[-1]


def written_by(reached: str) -> str:
    """Which version has written what is at a step that is none of ours."""
    return f"{'a newer version' if reached > newest_step() else 'a version before 1.0'} of Dolce (step {reached[:20]})"


def migrate(engine: Engine, *, to: str = "head") -> None:
    """Bring the tables up to date; each step runs in one transaction with the record that it ran."""
    from alembic import command
    from alembic.config import Config

    config = Config()
    config.set_main_option("script_location", _STEPS.replace(".migrations", ":migrations"))
    with engine.connect().execution_options(write=True) as connection, connection.begin():
        config.attributes["connection"] = connection
        command.upgrade(config, to)
