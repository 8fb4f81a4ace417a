"""What is carried: many small files, one big one, a deep tree. Always the same bytes."""

from __future__ import annotations

import os
import random
import shutil
from dataclasses import dataclass
from pathlib import Path

_FILES_A_FOLDER = 20


@dataclass(frozen=True, slots=True)
class Sizes:
    """How much each case works on. Those of the figures stand here; a test runs every case on far less."""

    small_files: int = 420
    small_folders: int = 60
    big_bytes: int = 256 * 1024 * 1024
    tree_folders: int = 1_000
    plan_folders: int = 1_000
    plan_files: int = 1_000
    job_rows: int = 20_000
    view_names: tuple[int, ...] = (100, 10_000, 100_000)
    memory_files: tuple[int, ...] = (1_500, 100_000)
    memory_mib: tuple[int, ...] = (128, 5_120)

    @property
    def tree_files(self) -> int:
        """Files in the tree, 20 in each folder."""
        return self.tree_folders * _FILES_A_FOLDER


def small(folder: Path, sizes: Sizes) -> Path:
    """Files of 1 to 40 KiB in folders."""
    chance = random.Random(4)
    for number in range(sizes.small_files):
        file = folder / f"part-{number % sizes.small_folders:02}" / f"leaf-{number:03}.txt"
        file.parent.mkdir(parents=True, exist_ok=True)
        file.write_bytes(chance.randbytes(chance.randint(1024, 40 * 1024)))
    return folder


def big(file: Path, sizes: Sizes) -> Path:
    """One file, other bytes each time."""
    file.parent.mkdir(parents=True, exist_ok=True)
    with file.open("wb") as out:
        for _ in range(sizes.big_bytes // 2**20):
            out.write(os.urandom(2**20))
    return file


def tree(folder: Path, sizes: Sizes) -> Path:
    """Small files, 20 in each folder; the folders lie 10 wide and 3 deep."""
    for number in range(sizes.tree_folders):
        below = folder / f"a{number // 100}" / f"b{number // 10 % 10}" / f"c{number % 10}"
        below.mkdir(parents=True, exist_ok=True)
        for leaf in range(_FILES_A_FOLDER):
            (below / f"leaf-{leaf}.txt").write_bytes(b"leaf")
    return folder


def empty(folder: Path) -> None:
    """Take away what a run has left."""
    for one in folder.iterdir():
        if one.is_dir():
            shutil.rmtree(one)
        else:
            one.unlink()
