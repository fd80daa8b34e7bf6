"""Patterns of texts: RE2, so that none can run away."""

from functools import lru_cache

import re2

__all__ = ["compile_pattern"]

MOST_CHARACTERS = 500


@lru_cache(maxsize=512)
def compile_pattern(pattern: str) -> "re2._Regexp":
    """Compile a pattern safely. Raises ValueError with a plain sentence."""
    if not pattern or len(pattern) > MOST_CHARACTERS:
        raise ValueError(f"A pattern has 1 to {MOST_CHARACTERS} characters.")
    options = re2.Options()
    options.max_mem = 1 << 20
    options.log_errors = False
    try:
        return re2.compile(pattern, options)
    except re2.error as problem:
        words = problem.args[0].decode() if problem.args and isinstance(problem.args[0], bytes) else str(problem)
        raise ValueError(f"The pattern cannot be read: {words}.") from None
