"""Faults to order: each happens so many times, whoever asks."""

import threading
from dataclasses import dataclass, field


@dataclass
class Ordered:
    """What goes wrong, by name, each so many times."""

    lock: threading.Lock = field(default_factory=threading.Lock, repr=False, kw_only=True)

    def take(self, name: str) -> bool:
        """Whether this one is to happen now; then it is one less."""
        with self.lock:
            left: int = getattr(self, name)
            setattr(self, name, max(0, left - 1))
            return left > 0
