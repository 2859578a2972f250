"""The errors of the core, by cause.

CoreError
├── SettingError      a value cannot be used: unknown name, out of range, wrong combination
│   └── MissingError  what is named is not there
├── RoutingError      strips, keys or splits cannot be wired so
└── SoundError        a block of sound cannot be used: shape, channels, rate
"""


class CoreError(Exception):
    """Base of everything that the core refuses; the text is one sentence for the user."""


class SettingError(CoreError):
    """A setting cannot be used."""


class MissingError(SettingError):
    """There is no such strip, stage, branch, split or processor."""


class RoutingError(CoreError):
    """The session cannot be wired as asked."""


class SoundError(CoreError):
    """A block of sound has the wrong shape, channel count or rate."""
