"""Whatever is asked for in whatever order, beside each other and in play: no fault, and it plays.

Edits of every kind are made, and everything else that there is a route for is asked for, by two at
once in sessions of recordings of different lengths and in one without any, while a tab plays,
jumps, listens elsewhere and previews. The routes are the application's own, so that a new one is
asked for too. The server's log is read when it ends (tests/server.py): a fault that was caught
there is one too.
"""

import contextlib
import threading
from collections import Counter
from pathlib import Path
from typing import Any, get_args

import httpx
import numpy as np
import pytest
import soundfile

from salt_anvil.api.app import schema
from salt_anvil.core.aim import Quantity
from salt_anvil.core.errors import CoreError
from salt_anvil.core.lab.measurements import MEASUREMENTS
from salt_anvil.core.processors import REGISTRY
from salt_anvil.core.session import Session, Split, Stage, branches, checked, elements
from salt_anvil.speed.client import heard_in
from tests.conftest import noise
from tests.long import LONG, of
from tests.random_sessions import Random, pick, random_edit, random_params, random_play_edit
from tests.server import Server, Tab, serving

RATE = 48000
SECONDS = {"short": 1.5, "middle": 3.0, "long": 4.5}
REQUESTS = of(60, 600)
REACHED = {"aims", "scans", "gatings", "compare", "lab", "prints", "stems", "proof", "recipes",
           "picture", "ledger", "hits", "reports", "lanes", "undo", "back", "bundle"}  # fmt: skip
"""Of a long run's requests some of each are done, and not only refused."""


Recordings = list[dict[str, Any]]


def begun(server: Server, folder: Path) -> tuple[list[int], Recordings]:
    """Return two sessions, one with three tracks, one with nothing but its main bus; and what a
    track is made of for each recording."""
    made = [server.api("POST", "/sessions", {"name": name})["id"] for name in ("Band", "Empty")]
    for name, seconds in SECONDS.items():
        path = folder / f"{name}.wav"
        soundfile.write(path, noise(int(seconds * RATE), 1 + len(name) % 2) * 0.2, RATE)
        to = f"/sessions/{made[0]}/audio"
        server.api("PUT", to, params={"name": path.name}, content=path.read_bytes())
    strips = server.api("GET", f"/sessions/{made[0]}")["model"]["strips"]
    names = ("audio", "channels", "frames")
    return made, [{name: s[name] for name in names} for s in strips if s["audio"]]


def any_edit(random: Random, model: Session, recordings: Recordings) -> dict[str, Any]:
    """Return an edit, not always one that can be done."""
    while True:
        made = random_edit if random.integers(2) else random_play_edit
        with contextlib.suppress(CoreError):
            edit: dict[str, Any] = made(random, model).model_dump(mode="json")
            if edit["type"] == "add_strip" and edit["strip"]["kind"] == "track":
                edit["strip"] |= pick(random, recordings)
            return edit


EDITS = ("post", "/api/sessions/{session_id}/edits")
STOPPED = "the scan was stopped"
"""Somebody else did that: no fault."""
UPLOADS = ("/audio", "/references", "/bundles", "/proof/file")
"""What is brought in there are bytes that are no file."""
ASKED = ("/api/sessions/{", "/api/aims", "/api/prints", "/api/recipes", "/api/drawing")
PATHS: dict[str, Any] = schema()["paths"]  # type: ignore[assignment]
ROUTES = [
    (method, path)
    for path, methods in PATHS.items()
    for method in methods
    if path.startswith(ASKED) and (method, path) != ("delete", "/api/sessions/{session_id}")
]


def values(random: Random, model: Session, session: int, base: int) -> dict[str, Any]:
    """What stands in paths and queries."""
    strip = pick(random, model.strips)
    splits = [e.id for s in model.strips for e in elements(s.chain) if isinstance(e, Split)]
    begin = int(random.integers(100_000))
    return {
        "session_id": session,
        "strip": strip.id,
        "at": pick(random, ["chain", *(e.id for e in elements(strip.chain))]),
        "begin": begin,
        "end": begin + int(random.integers(200_000)),
        "before": begin,
        "columns": int(random.integers(2, 2000)),
        "name": pick(random, ["wav-16", *splits]),
        "revision_id": int(random.integers(max(base - 30, 1), base + 1)),
        "number": int(random.integers(1, 12)),
        "prints": bool(random.integers(2)),
        "taken": bool(random.integers(2)),
    }


def body(random: Random, path: str, model: Session, base: int, recordings: Recordings) -> Any:
    """What a request brings along, or None."""
    strip = pick(random, model.strips)
    inside = [e.id for e in elements(strip.chain)]
    owners = [x.id for s in model.strips for x in (s, *branches(s.chain), *elements(s.chain))]
    stages = [e for s in model.strips for e in elements(s.chain) if isinstance(e, Stage)]
    gates = [stage.id for stage in stages if stage.kind == "gate"]
    kind = str(pick(random, sorted(REGISTRY)))
    stage = pick(random, inside or ["nothing"])
    begin = int(random.integers(60_000))
    end = begin + int(random.integers(1, 80_000))
    whole = pick(random, [("strip", strip.id), ("chain", strip.id), ("element", stage)])
    extent = dict(zip(("kind", "owner"), whole, strict=True))
    controls = [c.name for c in REGISTRY[kind].describe().controls] + 9 * ["threshold_db", "mix"]
    wish = {"what": pick(random, list(get_args(Quantity))), "wanted": float(random.uniform(-30, 6))}
    bodies: dict[str, Any] = {
        "edits": lambda: {"base": base, "edits": [any_edit(random, model, recordings)]},
        "aims": lambda: {"stage": stage, "control": pick(random, controls), "wish": wish,
                         "begin": begin, "end": end},
        "scans": lambda: {"stage": stage, "begin": begin, "end": end},
        "gatings": lambda: {"stage": pick(random, gates or ["nothing"]), "keep": [begin, end],
                            "refuse": [2 * end]},
        "compare": lambda: {"extent": extent, "begin": begin, "end": end,
                            "in_mix": bool(random.integers(2))},
        "lab": lambda: {"place": pick(random, owners), "against": pick(random, [None, "off"]),
                        "options": {"measurement": pick(random, sorted(MEASUREMENTS))}},
        "prints": lambda: {"format": "wav-16"},
        "stems": lambda: {"set": pick(random, ["groups", "tracks"]),
                          "options": {"format": "wav-24"}},
        "proof": lambda: {"begin": begin, "end": end, "ceiling": False,
                          "strip": pick(random, [None, strip.id])},
        "played": lambda: {"name": "x", "loudness": -14},
        "recipes": lambda: {"name": "Kept", "extent": extent},
        "{number}": lambda: {"name": "Other words"},
        "name": lambda: {"name": pick(random, ["", "Chorus"])},
        "threshold": lambda: {"frames": [begin, end]},
        "drawing": lambda: {"kind": kind, "params": random_params(random, kind), "rate": RATE,
                            "bpm": 96},
    }  # fmt: skip
    made = bodies.get(path.rsplit("/", 1)[-1])
    return made() if made else None


class Hand:
    """Asks a server for one thing after another."""

    def __init__(
        self, server: Server, sessions: list[int], recordings: Recordings, seed: int
    ) -> None:
        self.server, self.sessions, self.recordings = server, sessions, recordings
        self.random = np.random.default_rng(seed)
        self.http = httpx.Client(base_url=server.url, timeout=300)
        self.wrong: list[str] = []
        self.done: Counter[str] = Counter()
        """How often what each path ends in was done."""

    def model(self, session: int) -> tuple[Session, int]:
        state = self.http.get(f"/api/sessions/{session}").json()
        return checked(Session, state["model"]), state["revision"]

    def act(self) -> None:
        random = self.random
        session = int(pick(random, self.sessions))
        model, base = self.model(session)
        method, path = EDITS if random.integers(2) else pick(random, ROUTES)
        told = PATHS[path][method]
        near = values(random, model, session, base)
        names = {p["name"]: p["in"] for p in told.get("parameters", [])}
        query = {name: near[name] for name, place in names.items() if place == "query"}
        if "name" in query:
            query["name"] = "level_db"
        content = random.bytes(100) if path.endswith(UPLOADS) else None
        answer = self.http.request(
            method,
            path.format(**near),
            params=query,
            content=content,
            json=None if content else body(random, path, model, base, self.recordings),
        )
        if answer.is_success:
            self.done[path.rsplit("/", 1)[-1]] += 1
        if answer.status_code >= 500 and STOPPED not in answer.text:
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
            {"type": "preview", "edits": [any_edit(random, model, hand.recordings)]},
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
        sessions, recordings = begun(server, tmp_path)
        hands = [Hand(server, sessions, recordings, 10 * seed + i) for i in range(3)]
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
        done = hands[0].done + hands[1].done
        assert done["edits"] > REQUESTS / 20
        if LONG:
            assert {name for name in REACHED if not done[name]} == set()
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
