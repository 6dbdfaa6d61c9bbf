"""Answers that were given before: whoever goes back to a buffer size, or undoes a step, is answered at once."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable
from typing import Any

# Of so many questions the answer is kept: a dozen surveys, with what takes long to work out for each.
KEPT = 36


class Given:
    """The last answers, by survey, question and arguments. For one thread."""

    def __init__(self) -> None:
        self._answers: OrderedDict[tuple[bytes, str, tuple[Any, ...]], Any] = OrderedDict()

    def answer(self, of: bytes, name: str, arguments: tuple[Any, ...], work_out: Callable[[], Any]) -> Any:
        """The answer to a question about the survey with this mark, worked out if it is not known. What ends that by an
        exception leaves nothing."""
        key = of, name, arguments
        if key not in self._answers:
            self._answers[key] = work_out()
            if len(self._answers) > KEPT:
                self._answers.popitem(last=False)
        self._answers.move_to_end(key)
        return self._answers[key]
