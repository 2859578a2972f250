"""Edits: each one gesture's change to a session, with what was done in words."""

from typing import Annotated

from pydantic import Field

from salt_anvil.core.edits.automation import (
    AddLever,
    RemoveLever,
    SetInSection,
    SetLane,
    SetLever,
    WriteLane,
)
from salt_anvil.core.edits.base import rebuilt
from salt_anvil.core.edits.recipes import ApplyRecipe
from salt_anvil.core.edits.references import AddReference, RemoveReference
from salt_anvil.core.edits.sections import AddSection, RemoveSection, SetSection
from salt_anvil.core.edits.settings import (
    ChooseSettings,
    ClearSettings,
    CopySettings,
    KeepTrial,
    NameSettings,
)
from salt_anvil.core.edits.splits import (
    AddBranch,
    AddSplit,
    CopyToSiblings,
    RemoveBranch,
    RemoveSplit,
    SetBranch,
    SetSplit,
)
from salt_anvil.core.edits.stages import (
    AddStage,
    MoveStage,
    PasteElements,
    RemoveStage,
    SetParams,
    SetStage,
)
from salt_anvil.core.edits.strips import (
    AddStrip,
    DuplicateStrip,
    MoveStrip,
    RemoveSend,
    RemoveStrip,
    SetBusJoin,
    SetSend,
    SetSession,
    SetStrip,
)
from salt_anvil.core.session import Session

Edit = Annotated[
    SetSession
    | AddSection
    | SetSection
    | RemoveSection
    | SetStrip
    | AddStrip
    | RemoveStrip
    | MoveStrip
    | DuplicateStrip
    | SetSend
    | RemoveSend
    | SetBusJoin
    | AddStage
    | RemoveStage
    | MoveStage
    | PasteElements
    | SetStage
    | SetParams
    | ChooseSettings
    | CopySettings
    | NameSettings
    | ClearSettings
    | KeepTrial
    | AddSplit
    | RemoveSplit
    | SetSplit
    | SetBranch
    | AddBranch
    | RemoveBranch
    | CopyToSiblings
    | ApplyRecipe
    | AddReference
    | RemoveReference
    | SetLane
    | WriteLane
    | SetInSection
    | AddLever
    | SetLever
    | RemoveLever,
    Field(discriminator="type"),
]


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
    "AddBranch",
    "AddLever",
    "AddReference",
    "AddSection",
    "AddSplit",
    "AddStage",
    "AddStrip",
    "ApplyRecipe",
    "ChooseSettings",
    "ClearSettings",
    "CopySettings",
    "CopyToSiblings",
    "DuplicateStrip",
    "Edit",
    "KeepTrial",
    "MoveStage",
    "MoveStrip",
    "NameSettings",
    "PasteElements",
    "RemoveBranch",
    "RemoveLever",
    "RemoveReference",
    "RemoveSection",
    "RemoveSend",
    "RemoveSplit",
    "RemoveStage",
    "RemoveStrip",
    "SetBranch",
    "SetBusJoin",
    "SetInSection",
    "SetLane",
    "SetLever",
    "SetParams",
    "SetSection",
    "SetSend",
    "SetSession",
    "SetSplit",
    "SetStage",
    "SetStrip",
    "WriteLane",
    "apply_edits",
    "rebuilt",
]  # fmt: skip
