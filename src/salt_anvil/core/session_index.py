"""Everything in a session by its id; made once for a session, which does not change."""

from salt_anvil.core.errors import MissingError
from salt_anvil.core.session import Branch, Element, Lever, Session, Split, Stage, Strip

Owner = Strip | Element | Branch | Lever
"""What has controls."""


class SessionIndex:
    """Strips, stages and splits, branches and levers by id, and the strip that each stands on."""

    def __init__(self, session: Session) -> None:
        self.session = session
        self.strips = {s.id: s for s in session.strips}
        self.frames = session.frames()
        self.levers = {lever.id: lever for lever in session.levers}
        self.elements: dict[str, Element] = {}
        self.branches: dict[str, Branch] = {}
        self._homes: dict[str, str] = {}
        self._strip_of: dict[str, Strip] = {}
        self._within = {name: {name} for name in self.strips}
        for strip in session.strips:
            self._enter(strip, strip.id, strip.chain)

    def _enter(self, strip: Strip, home: str, chain: list[Element]) -> None:
        for element in chain:
            self.elements[element.id] = element
            self._homes[element.id] = home
            self._strip_of[element.id] = strip
            self._within[strip.id].add(element.id)
            if isinstance(element, Split):
                for branch in element.branches:
                    self.branches[branch.id] = branch
                    self._strip_of[branch.id] = strip
                    self._within[strip.id].add(branch.id)
                    self._enter(strip, branch.id, branch.chain)

    @property
    def ids(self) -> set[str]:
        """Every id in use."""
        return {*self.strips, *self._strip_of, *self.levers}

    @property
    def stages(self) -> list[Stage]:
        """The stages of every strip, nested ones too, in order."""
        return [e for e in self.elements.values() if isinstance(e, Stage)]

    def owner(self, name: str) -> Owner | None:
        """Return what an id belongs to."""
        strips_first = (self.strips, self.elements, self.branches, self.levers)
        return next((found[name] for found in strips_first if name in found), None)

    def strip_of(self, name: str) -> Strip | None:
        """Return the strip that an element or branch stands on."""
        return self._strip_of.get(name)

    def within(self, strip: str) -> set[str]:
        """Return the ids of a strip and of everything on its chain."""
        return self._within[strip]

    def strip_of_source(self, source: str) -> str | None:
        """Return the strip on which a key's source, "strip:ID", "stage:ID" or "branch:ID", is."""
        kind, _, name = source.partition(":")
        if kind == "strip":
            return name if name in self.strips else None
        known = name in (self.elements if kind == "stage" else self.branches)
        return self._strip_of[name].id if known else None

    def element(self, name: str) -> tuple[Strip, Element]:
        """Return a stage or split and the strip that it stands on.

        Raises:
            MissingError: there is none.
        """
        if name not in self.elements:
            raise MissingError(f"there is no stage “{name}” in “{self.session.name}”")
        return self._strip_of[name], self.elements[name]

    def home(self, name: str) -> tuple[str, list[Element]]:
        """Return the strip or branch in whose chain a stage or split stands, and that chain.

        Raises:
            MissingError: there is no such stage.
        """
        self.element(name)
        strip, branch = self.chain(self._homes[name])
        return self._homes[name], (branch or strip).chain

    def chain(self, place: str) -> tuple[Strip, Branch | None]:
        """Return the strip, and the branch if the place is one.

        Raises:
            MissingError: there is no such strip or branch.
        """
        if place in self.strips:
            return self.strips[place], None
        if place in self.branches:
            return self._strip_of[place], self.branches[place]
        raise MissingError(f"there is no strip or branch “{place}” in “{self.session.name}”")
