"""Work on several things at a time, with results in their order."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from contextvars import copy_context
from itertools import chain, islice
from typing import TypeVar

Item = TypeVar("Item")
Made = TypeVar("Made")


def ordered(work: Callable[[Item], Made], items: Iterable[Item], threads: int) -> Iterator[Made]:
    """The results of `work` in the order of the items, so many at a time; one item alone needs no thread.

    When the caller stops early, is interrupted, or a piece of work fails, what has not begun is not begun; what has is waited for only where work failed.
    """
    source = iter(items)
    first = list(islice(source, 2 if threads > 1 else 0))
    if len(first) < 2:
        yield from map(work, chain(first, source))
        return
    pool = ThreadPoolExecutor(threads, "oak")
    waiting: deque[Future[Made]] = deque()
    try:
        for item in chain(first, source):
            waiting.append(pool.submit(copy_context().run, work, item))  # a question ends in its threads, too
            if len(waiting) > threads + 1:
                yield waiting.popleft().result()
        while waiting:
            yield waiting.popleft().result()
    except Exception:
        pool.shutdown(wait=True, cancel_futures=True)
        raise
    finally:
        pool.shutdown(wait=False, cancel_futures=True)
