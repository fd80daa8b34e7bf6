"""Tests. What is generated is the same in every run, and no example has to be quick: a busy machine fails nothing."""

from hypothesis import settings

settings.register_profile("tests", deadline=None, derandomize=True, database=None)
settings.load_profile("tests")
