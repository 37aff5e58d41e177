"""python -m tests [NAME ...]: run every test, or those whose names contain one of these.

The files of tests run side by side, one process a processor, the longest first.
"""

import multiprocessing
import os
import shutil
import sys
import time
from concurrent.futures import ProcessPoolExecutor, as_completed
from pathlib import Path

from tests.one_file import run

HERE = Path(__file__).parent
# What takes long begins first, so that no processor is left with it at the end.
LONG = (
    "test_swap",
    "test_demo",
    "test_access_test",
    "test_serve",
    "test_replay",
    "test_machines",
    "test_provider",
    "test_ways",
    "test_styles",
    "test_stacks",
    "frameworks.test_others",
    "test_django_document",
    "report.test_page",
    "test_directory",
    "test_repositories",
    "test_editing",
    "test_search",
    "serving.test_page",
    "cli.test_growth",
    "test_random_applications",
    "test_pages",
    "language.test_growth",
    "test_pictures",
    "test_life_cycle",
    "test_printer",
    "test_properties",
    "test_house",
    "test_planted",
    "test_what_is_served",
    "test_comparing",
    "test_findings",
    "test_bounded",
)


def modules() -> list[str]:
    """Every file of tests by its name."""
    files = (file for file in HERE.rglob("test_*.py") if "real" not in file.relative_to(HERE).parts)
    names = sorted(".".join(("tests", *file.relative_to(HERE).with_suffix("").parts)) for file in files)
    return sorted(names, key=lambda name: next((n for n, long in enumerate(LONG) if long in name), len(LONG)))


def use_memory() -> None:
    """Let temporary folders be in memory, where there is a file system for it: nothing waits for a disk."""
    memory = Path("/dev/shm")
    if os.access(memory, os.W_OK) and shutil.disk_usage(memory).free > 2**31:
        os.environ.setdefault("TMPDIR", str(memory))


def main(words: list[str]) -> int:
    use_memory()
    began = time.monotonic()
    every = []
    workers = (os.cpu_count() or 1) + 2  # some tests wait
    with ProcessPoolExecutor(workers, multiprocessing.get_context("spawn")) as pool:
        for future in as_completed([pool.submit(run, name, words) for name in modules()]):
            every.append(future.result())
            if every[-1].output:
                print(every[-1].output, flush=True)
    count, failed, skipped = (sum(values) for values in list(zip(*every, strict=True))[1:])
    print(f"in {time.monotonic() - began:.0f} s", flush=True)
    print(f"{max(count - failed - skipped, 0)} passed, {failed} failed, {skipped} skipped", flush=True)
    return 0 if count and not failed else 1


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
