"""Benchmarks: each figure a ratio to a named yardstick, measured in the same run."""
