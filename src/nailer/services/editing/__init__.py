"""Editing files: drafts, saving with care, a person's own editor, the live check, scripts, references."""

from __future__ import annotations

from nailer.services.editing.door import Editing
from nailer.services.editing.drafts import LARGEST_BYTES
from nailer.services.editing.references import better_names
from nailer.services.editing.saving import Careful
from nailer.store.drafts import Draft, Ways

__all__ = [
    "LARGEST_BYTES",
    "Careful",
    "Draft",
    "Editing",
    "Ways",
    "better_names",
]
