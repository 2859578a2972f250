"""Commands as they are typed: in this process where starting another is not what is tested."""

import io
import subprocess
import sys
from contextlib import redirect_stderr, redirect_stdout

from salt_anvil.cli import main
from salt_anvil.speed.client import PATIENCE_S

Done = subprocess.CompletedProcess[str]


def command(*words: object) -> Done:
    """Run a command here; what it writes and returns is as of a process."""
    out, told = io.StringIO(), io.StringIO()
    with redirect_stdout(out), redirect_stderr(told):
        try:
            code = main([str(word) for word in words])
        except SystemExit as ended:
            code = int(ended.code or 0)
    return subprocess.CompletedProcess(words, code, out.getvalue(), told.getvalue())


def command_process(*words: object) -> Done:
    """Run a command in a process of its own."""
    line = [sys.executable, "-m", "salt_anvil", *map(str, words)]
    return subprocess.run(line, capture_output=True, text=True, timeout=PATIENCE_S, check=False)
