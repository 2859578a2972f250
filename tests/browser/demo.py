"""The demo as the tests begin with it: analysed from end to end."""

import os
import shutil
from pathlib import Path

from salt_anvil.analysis.cache import StripCache
from salt_anvil.analysis.strip_pass import analyse
from salt_anvil.core.session import Session
from salt_anvil.files.media import MediaFolder
from salt_anvil.kernels.cache import sources_digest
from salt_anvil.store.database import Database
from salt_anvil.store.sessions import SessionStore

LENGTH_S = 40


def analysed_demo(demo: Path, data: Path) -> Path:
    """Copy the demo into a folder, with everything that the analysis leaves."""
    copied_demo(demo, data)
    media = MediaFolder(data / "media")
    cache, code = StripCache(data / "cache"), sources_digest()
    analyse(demo_session(data), code, media.source(), cache, None, lambda *reported: True)
    return data


def demo_session(data: Path) -> Session:
    """The demo's first sections: all that the tests look at, in two thirds of the time."""
    model = SessionStore(Database(data / "salt-anvil.db")).head(1).model
    frames = LENGTH_S * model.rate
    strips = [s.model_copy(update={"frames": min(s.frames, frames)}) for s in model.strips]
    sections = [s for s in model.sections if s.start_s < LENGTH_S]
    return model.model_copy(update={"strips": strips, "sections": sections})


def copied_demo(demo: Path, data: Path) -> None:
    """Copy a data folder; recordings and cached sound, which nobody writes to, are shared."""
    shutil.copytree(demo, data, ignore=shutil.ignore_patterns("media", "cache"))
    for shared in ("media", "cache"):
        if (demo / shared).exists():
            shutil.copytree(demo / shared, data / shared, copy_function=os.link)
