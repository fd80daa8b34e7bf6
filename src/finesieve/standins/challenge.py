"""The stand-in for a service that tells people from robots: a small question in plain words, which needs no picture."""

import random
from dataclasses import dataclass
from typing import Final

from itsdangerous import BadData, URLSafeTimedSerializer

__all__ = ["Challenge", "ChallengeService"]

_GROWN: Final = ("bean", "kale", "leek", "parsnip", "chard", "beetroot", "lettuce", "radish")
_NOT_GROWN: Final = ("kettle", "ladder", "wheelbarrow", "bucket", "rake", "doorbell", "lantern", "sieve")
_SECONDS: Final = 3 * 3_600


@dataclass(frozen=True, slots=True)
class Challenge:
    """What a person is asked; `token` goes back with their answer."""

    token: str
    choices: tuple[str, ...]


class ChallengeService:
    """Poses challenges and judges answers. One is good for three hours, and for the filling-in it was posed in."""

    def __init__(self, secret: str) -> None:
        self._signer = URLSafeTimedSerializer(secret, salt="challenge")

    def pose(self, filling: str) -> Challenge:
        """A new challenge: one of four things can be sown."""
        chance = random.SystemRandom()
        right = chance.choice(_GROWN)
        choices = [right, *chance.sample(_NOT_GROWN, 3)]
        chance.shuffle(choices)
        return Challenge(str(self._signer.dumps([filling, right])), tuple(choices))

    def passes(self, filling: str, token: str, answer: str) -> bool:
        """Whether the answer is right, and was asked of this filling-in."""
        try:
            posed, right = self._signer.loads(token, max_age=_SECONDS)
        except (BadData, ValueError, TypeError):
            return False
        return bool(posed == filling and right == answer)
