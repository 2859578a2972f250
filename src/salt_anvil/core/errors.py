"""The errors that are the user's to read: each text is one sentence. The whole tree.

SaltAnvilError
├── CoreError             what is asked of the computation cannot be done
│   ├── SettingError      a value cannot be used: unknown name, out of range, wrong combination
│   │   └── MissingError  what is named is not there
│   ├── RoutingError      strips, keys or splits cannot be wired so
│   └── SoundError        a block of sound cannot be used: shape, channels, rate
├── FileError             a file cannot be read, used or written
│   └── DamagedError      a file that the program keeps is not as it was written
├── StoreError            something cannot be read from or stored in the data folder
│   ├── MissingRowError   there is no such session, revision or print
│   └── ConflictError     somebody else has changed it meanwhile
└── NotReadyError         what is asked for needs what is still being made
"""


class SaltAnvilError(Exception):
    """Base of everything that is refused; the text is one sentence for the user."""


class CoreError(SaltAnvilError):
    """Base of everything that the core refuses."""


class SettingError(CoreError):
    """A setting cannot be used."""


class MissingError(SettingError):
    """There is no such strip, stage, branch, split or processor."""


class RoutingError(CoreError):
    """The session cannot be wired as asked."""


class SoundError(CoreError):
    """A block of sound has the wrong shape, channel count or rate."""


class FileError(SaltAnvilError):
    """A file cannot be read, used or written."""


class DamagedError(FileError):
    """A file that the program keeps is not as it was written. where: the entry it belongs to."""

    def __init__(self, text: str, where: str) -> None:
        super().__init__(text)
        self.where = where


class StoreError(SaltAnvilError):
    """Something cannot be read from or stored in the data folder."""


class MissingRowError(StoreError):
    """There is no such session, revision or print."""


class ConflictError(StoreError):
    """The session was changed by somebody else meanwhile."""


class NotReadyError(SaltAnvilError):
    """What is asked for needs what is still being made."""
