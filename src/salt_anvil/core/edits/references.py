"""Recordings that are only compared with."""

from typing import Any, Literal

from salt_anvil.core.edits.base import free, rebuilt, slug
from salt_anvil.core.errors import MissingError
from salt_anvil.core.session import Id, Model, Reference, Session, checked


class AddReference(Model):
    """A reference; its id is made here."""

    type: Literal["add_reference"] = "add_reference"
    reference: dict[str, Any]

    def apply(self, session: Session) -> tuple[Session, str]:
        """Return the changed session and what was done."""
        name = str(self.reference.get("name", "Reference"))
        taken = {r.id for r in session.references}
        found = checked(Reference, {**self.reference, "id": free(slug(name), taken)})
        done = rebuilt(session, references=[*session.references, found])
        return done, f"reference {found.name} added"


class RemoveReference(Model):
    """Let a reference go."""

    type: Literal["remove_reference"] = "remove_reference"
    reference: Id

    def apply(self, session: Session) -> tuple[Session, str]:
        """Return the changed session and what was done."""
        found = next((r for r in session.references if r.id == self.reference), None)
        if found is None:
            raise MissingError(f"there is no reference “{self.reference}”")
        rest = [r for r in session.references if r is not found]
        return rebuilt(session, references=rest), f"reference {found.name} taken away"
