"""Errors, ledgers and work side by side: what other rooms take for granted."""

from __future__ import annotations

import threading
import time

import pytest

from plait.core.base.errors import PlaitError, UnknownColumnError, attribute_errors_to_option
from plait.core.base.ledger import LedgerLine, abbreviate_inputs, make_entry
from plait.core.job import executor
from plait.core.job.executor import SerialWorker, map_ordered


def test_an_error_without_a_kind_is_one_of_usage():
    assert PlaitError("what").status == 2 and str(PlaitError("what")) == "what"


def test_the_inmost_option_is_the_one_at_fault():
    with (
        pytest.raises(UnknownColumnError) as caught,
        attribute_errors_to_option("outer"),
        attribute_errors_to_option("inner"),
    ):
        raise UnknownColumnError("no column")
    assert caught.value.option == "inner"


def test_an_entry_whose_lines_do_not_add_up_cannot_be_made():
    with pytest.raises((AssertionError, ValueError), match="the result has 3"):
        make_entry("join", [("l", 5)], [LedgerLine("left out", -1)], 3)


def test_very_many_inputs_are_some_and_the_sum_of_the_others():
    many = make_entry("stack", [(f"s{n}", n) for n in range(20)], [LedgerLine("left out", -3)], 187)
    short = abbreviate_inputs(many, 4)
    assert short.rows_in == {"s0": 0, "s1": 1, "s2": 2, "17 more sources": 187}
    assert [line.rows for line in short.lines] == [0, 1, 2, 187, -3]
    assert abbreviate_inputs(many, 20) == many and len(abbreviate_inputs(many, 19).rows_in) == 19


@pytest.fixture
def two_cores(monkeypatch):
    monkeypatch.setattr(executor, "available_cores", lambda: 2)


def test_results_come_in_order_and_items_are_drawn_only_a_few_ahead(two_cores):
    drawn = []

    def items():
        for number in range(40):
            drawn.append(number)
            yield number

    def slow(number: int) -> int:
        time.sleep(0.002 * (number % 3))
        return number * number

    made = map_ordered(slow, items(), ahead=2)
    assert [next(made) for _ in range(3)] == [0, 1, 4]
    assert len(drawn) <= 3 + 2 * 2 + 2
    assert list(made) == [number * number for number in range(3, 40)]


def test_what_is_raised_in_a_worker_is_raised_where_its_result_is_taken(two_cores):
    def wrong(number: int) -> int:
        if number == 5:
            raise PlaitError("five")
        return number

    made = map_ordered(wrong, range(10))
    assert [next(made) for _ in range(5)] == [0, 1, 2, 3, 4]
    with pytest.raises(PlaitError, match="five"):
        next(made)


def test_calls_in_turn_are_in_order_and_whoever_asks_waits_when_far_ahead():
    done: list[int] = []
    gate = threading.Event()
    calls = SerialWorker(behind=2)
    calls.ask(gate.wait)
    calls.ask(done.append, 0)
    waiting = threading.Thread(target=lambda: calls.ask(done.append, 1), daemon=True)
    waiting.start()
    waiting.join(0.05)
    assert waiting.is_alive() and done == []
    gate.set()
    waiting.join()
    calls.wait()
    assert done == [0, 1]
