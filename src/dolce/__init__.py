"""Dolce: measure, align, correct and prove the loudspeakers of a small room."""

import os

# The matrices of a fit are small. A linear-algebra library that spreads them over all cores spends its time waiting
# for itself: measured here, 30 columns by 900 rows take 1.5 ms on one thread and 36 to 400 ms on two. It reads this
# once, when numpy is first imported.
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

__version__ = "0.1.0"
