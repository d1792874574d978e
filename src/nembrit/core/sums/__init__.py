"""Sums that people do on paper: each one function with its formula and its source."""
