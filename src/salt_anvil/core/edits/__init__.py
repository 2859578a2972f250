"""Edits: each one gesture's change to a session, with what was done in words."""

from typing import Annotated

from pydantic import Field

from salt_anvil.core.edits.base import rebuilt
from salt_anvil.core.edits.moving import (
    AddLever,
    RemoveLever,
    SetInSection,
    SetLane,
    SetLever,
    WriteLane,
)  # fmt: skip
from salt_anvil.core.edits.splits import (
    AddBranch,
    AddSplit,
    ApplyRecipe,
    CopyToSiblings,
    RemoveBranch,
    RemoveSplit,
    SetBranch,
    SetSplit,
)  # fmt: skip
from salt_anvil.core.edits.stages import (
    AddStage,
    ChooseSlot,
    MoveStage,
    RemoveStage,
    SetParams,
    SetStage,
    differences,
)  # fmt: skip
from salt_anvil.core.edits.strips import (
    AddStrip,
    RemoveSend,
    RemoveStrip,
    SetBusJoin,
    SetSend,
    SetSession,
    SetStrip,
)  # fmt: skip
from salt_anvil.core.session import Session

Edit = Annotated[
    SetSession | SetStrip | AddStrip | RemoveStrip | SetSend | RemoveSend | SetBusJoin
    | AddStage | RemoveStage | MoveStage | SetStage | SetParams | ChooseSlot
    | AddSplit | RemoveSplit | SetSplit | SetBranch | AddBranch | RemoveBranch | CopyToSiblings
    | ApplyRecipe | SetLane | WriteLane | SetInSection | AddLever | SetLever | RemoveLever,
    Field(discriminator="type"),
]  # fmt: skip


def apply_edits(session: Session, edits: list[Edit]) -> tuple[Session, str]:
    """Return the session after all edits, and what was done in words.

    Raises:
        SettingError: one of them cannot be done; then none is.
    """
    said = []
    for edit in edits:
        session, words = edit.apply(session)
        said.append(words)
    return session, "; ".join(said[:3]) + (f" and {len(said) - 3} more" if len(said) > 3 else "")


__all__ = [
    "AddBranch", "AddLever", "AddSplit", "AddStage", "AddStrip", "ApplyRecipe", "ChooseSlot",
    "CopyToSiblings", "Edit", "MoveStage", "RemoveBranch", "RemoveLever", "RemoveSend",
    "RemoveSplit", "RemoveStage", "RemoveStrip", "SetBranch", "SetBusJoin", "SetInSection",
    "SetLane", "SetLever", "SetParams", "SetSend", "SetSession", "SetSplit", "SetStage",
    "SetStrip", "WriteLane", "apply_edits", "differences", "rebuilt",
]  # fmt: skip
