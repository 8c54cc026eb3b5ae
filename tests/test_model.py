"""A studio over the years, step by step: whatever people, drives and clocks do, in any order (see proof/model.py)."""

import random
import shutil
import sys
import tempfile
from pathlib import Path

from hypothesis import HealthCheck, settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, initialize, rule, run_state_machine_as_test

from conftest import CHECKER

sys.path.insert(0, str(CHECKER.parent))
from model import Studio

STUDIOS, STEPS = 5, 32
_MEMORY = Path("/dev/shm")
names = [name for name, _ in Studio.actions()]


class Years(RuleBasedStateMachine):
    """Each rule is one thing that happens; `chance` says to which file, at which depot, when."""

    taken = 0

    @initialize(seed=st.integers(0, 2**32))
    def begin(self, seed: int) -> None:
        self.folder = Path(tempfile.mkdtemp(prefix="bm-model-", dir=_MEMORY if _MEMORY.is_dir() else None))
        self.studio = Studio(self.folder, random.Random(seed))

    @rule(what=st.sampled_from(names), seed=st.integers(0, 2**32))
    def happens(self, what: str, seed: int) -> None:
        self.studio.chance = random.Random(seed)
        self.studio.do(what)
        Years.taken += 1

    def teardown(self) -> None:
        if hasattr(self, "folder"):
            shutil.rmtree(self.folder, ignore_errors=True)


def test_no_order_of_events_costs_a_last_copy_or_calls_safe_what_is_not() -> None:
    while Years.taken < 150:  # it may choose to end a studio early
        studios = 1 if Years.taken else STUDIOS
        run_state_machine_as_test(
            Years,
            settings=settings(
                max_examples=studios, stateful_step_count=STEPS, deadline=None, suppress_health_check=list(HealthCheck),
                print_blob=True, database=None,
            ),
        )  # fmt: skip
    print(f"{Years.taken} steps")
