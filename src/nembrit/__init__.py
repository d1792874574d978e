"""Nembrit, a workshop tool for tuning multirotors and model aeroplanes."""

import os

__version__ = "0.2.0"

# Pages and jobs are processes of their own, and axes are analysed side by side: threads inside small sums would only fight
# for the processors. Linear algebra reads this once, when it is first imported, so it stands before everything else.
os.environ.setdefault("OMP_NUM_THREADS", "1")
