"""The errors of the core, by cause.

CoreError
├── SettingError      a value cannot be used: unknown name, out of range, wrong combination
├── RoutingError      strips, keys or splits cannot be wired so
└── SoundError        a block of sound cannot be used: shape, channels, rate
"""


class CoreError(Exception):
    """Base of everything that the core refuses; the text is one sentence for the user."""


class SettingError(CoreError):
    """A setting cannot be used."""


class RoutingError(CoreError):
    """The session cannot be wired as asked."""


class SoundError(CoreError):
    """A block of sound has the wrong shape, channel count or rate."""
