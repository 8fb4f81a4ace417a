"""Secrets are sealed and open only in their place."""

from __future__ import annotations

from pathlib import Path

import pytest

from nailer.errors import SetupFailed
from nailer.seal import Seal


def test_a_sealed_secret_opens_only_in_its_place(tmp_path: Path) -> None:
    seal = Seal.at(tmp_path / "seal.key")
    sealed = seal.close("secret", "credential:1:password")

    assert Seal.at(tmp_path / "seal.key").open(sealed, "credential:1:password") == "secret"
    with pytest.raises(SetupFailed, match="copied from another installation"):
        seal.open(sealed, "credential:2:password")
    with pytest.raises(SetupFailed, match="not in this installation"):
        Seal.at(tmp_path / "other.key").open(sealed, "credential:1:password")


def test_a_new_key_first_still_opens_what_the_old_one_sealed(tmp_path: Path) -> None:
    file = tmp_path / "seal.key"
    sealed = Seal.at(file).close("secret", "here")
    other = tmp_path / "new.key"
    Seal.at(other)
    file.write_bytes(other.read_bytes() + file.read_bytes())

    rotated = Seal.at(file)

    assert rotated.open(sealed, "here") == "secret"
    assert rotated.close("secret", "here")[1:5] != sealed[1:5]


def test_a_key_file_that_others_can_read_is_refused(tmp_path: Path) -> None:
    file = tmp_path / "seal.key"
    Seal.at(file)
    assert file.stat().st_mode & 0o777 == 0o600
    file.chmod(0o644)

    with pytest.raises(SetupFailed, match="600"):
        Seal.at(file)
