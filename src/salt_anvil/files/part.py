"""Files that are whole or not there: written beside their place, and put there when whole."""

import contextlib
import fcntl
import os
from pathlib import Path

from salt_anvil.core.errors import FileError


def part_of(path: Path) -> Path:
    """Return the file that a file is written to until it is whole."""
    return path.with_name(path.name + ".part")


class Part:
    """The file that another is written to until it is whole, held for one writer alone.

    What a writer that was killed has left is written over. As a context: put in its place at the
    end, or removed where something went wrong.
    """

    def __init__(self, path: Path) -> None:
        """Begin to write a file.

        Raises:
            FileError: another run is writing it.
            OSError: its folder cannot be written to.
        """
        self.target, self.path = path, part_of(path)
        self._held = self.path.open("ab")
        try:
            fcntl.flock(self._held, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            self._held.close()
            raise FileError(
                f"{path} is being written by another run: wait for it, or choose another name"
            ) from None
        except OSError:
            pass  # a file system that knows no locks

    def place(self) -> None:
        """Put what was written in its place, safe from a loss of power.

        Raises:
            OSError: the disk is full or gone.
        """
        with self.path.open("rb") as file:
            os.fsync(file.fileno())
        self.path.replace(self.target)
        self._held.close()

    def drop(self) -> None:
        """Remove what was written."""
        if not self._held.closed:
            with contextlib.suppress(OSError):
                self.path.unlink(missing_ok=True)
            self._held.close()

    def __enter__(self) -> "Part":
        return self

    def __exit__(self, kind: type[BaseException] | None, *_: object) -> None:
        try:
            if kind is None:
                self.place()
        finally:
            self.drop()
