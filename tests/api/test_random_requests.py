"""Whatever is asked for in whatever order, beside each other and in play: no fault, and it plays.

Edits of every kind are made by two at once in sessions of recordings of different lengths and in
one without any, while a tab plays, jumps, listens elsewhere and previews. The server's log is read
when it ends (tests/server.py): a fault that was caught there is one too.
"""

import contextlib
import threading
from pathlib import Path
from typing import Any

import httpx
import numpy as np
import pytest
import soundfile

from salt_anvil.core.errors import CoreError
from salt_anvil.core.session import Session, checked, elements
from salt_anvil.speed.client import heard_in
from tests.conftest import noise
from tests.long import of
from tests.random_sessions import pick, random_edit, random_play_edit
from tests.server import Server, Tab, serving

RATE = 48000
SECONDS = {"short": 1.5, "middle": 3.0, "long": 4.5}
REQUESTS = of(60, 600)


def begun(server: Server, folder: Path) -> list[int]:
    """Return two sessions: one with three tracks, one with nothing but its main bus."""
    made = [server.api("POST", "/sessions", {"name": name})["id"] for name in ("Band", "Empty")]
    for name, seconds in SECONDS.items():
        path = folder / f"{name}.wav"
        soundfile.write(path, noise(int(seconds * RATE), 1 + len(name) % 2) * 0.2, RATE)
        to = f"/sessions/{made[0]}/audio"
        server.api("PUT", to, params={"name": path.name}, content=path.read_bytes())
    return made


def any_edit(random: np.random.Generator, model: Session) -> dict[str, Any]:
    """Return an edit, not always one that can be done."""
    while True:
        made = random_edit if random.integers(2) else random_play_edit
        with contextlib.suppress(CoreError):
            return made(random, model).model_dump(mode="json")


class Hand:
    """Asks a server for one thing after another."""

    def __init__(self, server: Server, sessions: list[int], seed: int) -> None:
        self.server, self.sessions = server, sessions
        self.random = np.random.default_rng(seed)
        self.http = httpx.Client(base_url=server.url, timeout=300)
        self.wrong: list[str] = []
        self.edited = 0

    def model(self, session: int) -> tuple[Session, int]:
        state = self.http.get(f"/api/sessions/{session}").json()
        return checked(Session, state["model"]), state["revision"]

    def act(self) -> None:
        random = self.random
        session = int(pick(random, self.sessions))
        path = f"/api/sessions/{session}"
        model, base = self.model(session)
        strip = pick(random, model.strips)
        at = pick(random, ["chain", *(e.id for e in elements(strip.chain))])
        span = {"at": at, "begin": 0, "end": int(random.integers(2_000, 200_000))}
        what = pick(random, [*4 * ["edits"], "undo", "redo", "picture", "ledger", "prints"])
        if what in ("picture", "ledger"):
            answer = self.http.get(f"{path}/strips/{strip.id}/{what}", params=span)
        else:
            bodies = {"prints": {"format": "wav-16"}}
            if what == "edits":
                bodies["edits"] = {"base": base, "edits": [any_edit(random, model)]}
            answer = self.http.post(f"{path}/{what}", json=bodies.get(what))
            self.edited += what == "edits" and answer.is_success
        if answer.status_code >= 500:
            self.wrong.append(f"{answer.request.method} {answer.request.url}: {answer.text}")

    def work(self) -> None:
        for _ in range(REQUESTS):
            self.act()


def play(hand: Hand, tab: Tab, stop: threading.Event) -> None:
    """Use a tab at random, and take what comes, until it is enough."""
    random, session = hand.random, hand.sessions[0]
    epoch = taken = 0
    while not stop.is_set():
        model, _ = hand.model(session)
        ids = [x.id for s in model.strips for x in (s, *elements(s.chain))]
        frame = int(random.integers(300_000))
        messages: list[dict[str, Any]] = [
            {"type": "play", "frame": frame},
            {"type": "seek", "frame": frame},
            {"type": "loop", "begin": frame, "end": frame + int(random.integers(500, 90_000))},
            {"type": "listen", "strip": pick(random, model.strips).id, "at": pick(random, ids)},
            {"type": "preview", "edits": [any_edit(random, model)]},
            {"type": "same_loudness", "before_db": 3.0, "after_db": float(random.uniform(-6, 6))},
        ]
        tab.say(**pick(random, messages))
        for _ in range(random.integers(30)):
            try:
                message = tab.socket.recv(timeout=0.01)
            except TimeoutError:
                break
            for piece in heard_in(message) if isinstance(message, bytes) else []:
                assert np.isfinite(piece.sound).all()
                taken = len(piece.sound) + (taken if piece.epoch == epoch else 0)
                epoch = piece.epoch
        tab.say(type="played", epoch=epoch, frames=taken)  # all is used up at once


@pytest.mark.parametrize("seed", range(of(1, 6)))
def test_anything_in_any_order(tmp_path: Path, seed: int) -> None:
    with serving(tmp_path / "data") as server:
        sessions = begun(server, tmp_path)
        hands = [Hand(server, sessions, 10 * seed + i) for i in range(3)]
        stop = threading.Event()
        tab = server.tab(sessions[0])
        player = threading.Thread(target=play, args=(hands[2], tab, stop))
        workers = [threading.Thread(target=h.work) for h in hands[:2]]
        for thread in (player, *workers):
            thread.start()
        for thread in workers:
            thread.join()
        stop.set()
        player.join()
        for hand in hands:
            hand.http.close()
        assert [w for h in hands for w in h.wrong] == []
        assert all(h.edited > REQUESTS / 20 for h in hands[:2])
        # Another session still plays as it should.
        last = server.api("POST", "/sessions", {"name": "Last"})["id"]
        body = (tmp_path / "long.wav").read_bytes()
        server.api("PUT", f"/sessions/{last}/audio", params={"name": "l.wav"}, content=body)
        other = server.tab(last)
        other.play(0)
        _, sound, _ = other.sound(4096)
        wanted, _ = soundfile.read(tmp_path / "long.wav", dtype="float32")
        centred = wanted[:4096] * np.sqrt(0.5)
        assert np.abs(sound[:, 2] - centred).max() < 1e-4
