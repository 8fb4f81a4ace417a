"""Nailer's own files: folders of mode 0700, files of mode 0600, whatever the process's umask is.

What lies in the working folders here gets the access its person wants; what Nailer keeps for itself is nobody else's on
this machine. This module imports nothing of Nailer. Everything here blocks.
"""

from __future__ import annotations

import os
import stat
from pathlib import Path
from typing import BinaryIO


def own_folder(folder: Path) -> None:
    """Make a folder that only this user may enter, or make it so. Raises OSError where it is another user's, or a link."""
    folder.mkdir(parents=True, exist_ok=True, mode=0o700)
    found = folder.lstat()
    if not stat.S_ISDIR(found.st_mode) or found.st_uid != os.geteuid():
        raise NotADirectoryError(None, f"{folder} is a link, or it belongs to another user")
    if stat.S_IMODE(found.st_mode) != 0o700:
        folder.chmod(0o700)


def new_own_file(file: Path) -> BinaryIO:
    """A new file that only this user may read, open for writing. Raises FileExistsError where the name is taken."""
    return os.fdopen(os.open(file, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600), "wb")


def write_own_file(file: Path, text: str) -> None:
    """Write a file that only this user may read, whatever was there before."""
    file.unlink(missing_ok=True)
    with new_own_file(file) as out:
        out.write(text.encode())
