"""What the store can be asked for. Rows go no further than here."""

from dolce.store.repositories.jobs import Jobs
from dolce.store.repositories.logbook import Logbook
from dolce.store.repositories.passes import Passes
from dolce.store.repositories.plans import Plans
from dolce.store.repositories.shapes import Shapes
from dolce.store.repositories.takes import Takes

__all__ = ["Jobs", "Logbook", "Passes", "Plans", "Shapes", "Takes"]
