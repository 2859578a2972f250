"""Every route with every kind of wrong value: never a 500, always a sentence, nothing changed.

The routes are taken from the application itself, so that a new one is held too.
"""

import itertools
import json
import re
import shutil
from collections.abc import Iterator
from pathlib import Path
from typing import Any, get_args

import pytest
from pydantic import TypeAdapter, ValidationError

from salt_anvil.api.app import schema
from salt_anvil.core.edits import Edit
from salt_anvil.core.errors import CoreError
from tests.server import Server, Tab, serving
from tests.sessions import small_session

WRONG_IDS = ["0", "-1", "99", str(1 << 62), str(1 << 63), str(1 << 70), "x", "1.5", "nan", "%00"]
WRONG_NAMES = ["nobody", "%00", "..%2F..%2Fetc", "a" * 3000, "%F0%9F%8E%B5", "chain"]
WRONG_NUMBERS = ["-1", "0", "1", str(1 << 40), str(1 << 63), str(1 << 80), "nan", "x", "1e9", ""]
WRONG_BODIES: list[Any] = [
    None, 1, "text", [], {}, [1], {"base": 1}, {"edits": [1]}, {"name": "\x00"}, {"name": 7},
    {"base": 1 << 70, "edits": [{"type": "set_session", "name": "x"}]},
    {"kind": "gate", "params": [1]}, {"kind": ["gate"], "params": {}}, {"frames": ["x"]},
    {"frames": [-5, 1 << 70]}, {"place": "drum-c", "options": {}}, {"options": 3},
    {"format": "salt-anvil/recipe", "version": 1, "chain": [{"kind": "gate", "mix": [1]}]},
    {"format": "salt-anvil/recipe", "version": 1, "chain": [{"id": {}, "kind": "split"}]},
    {"extent": {"kind": "element", "owner": "nobody"}, "end": 1},
    {"extent": {"kind": "stretch", "owner": "drum", "after": "x", "before": 1}, "end": 1 << 70},
    {"extent": {"kind": "strip", "owner": "drum"}, "against": "E", "end": 9},
    {"extent": {"kind": "chain", "owner": "drum"}, "at": "\x00", "begin": 9, "end": 1},
    {"strip": "nobody"}, {"begin": -5}, {"begin": 1 << 70}, {"end": "never"},
]  # fmt: skip


@pytest.fixture(scope="module")
def server(band_data: Path, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Server]:
    data = tmp_path_factory.mktemp("wrong") / "data"
    shutil.copytree(band_data, data)
    with serving(data) as running:
        yield running


def routes() -> list[tuple[str, str, dict[str, Any]]]:
    found = []
    for path, methods in schema()["paths"].items():  # type: ignore[attr-defined]
        if path in ("/live-messages", "/api/demo"):
            continue  # not a route; makes the demo, which takes a minute and no values
        found += [(method.upper(), path, reported) for method, reported in methods.items()]
    return found


def values_of(parameter: dict[str, Any], good: dict[str, str]) -> list[str]:
    name = parameter["name"]
    text = json.dumps(parameter["schema"])
    wrong = WRONG_NUMBERS if "integer" in text and parameter["in"] == "query" else WRONG_NAMES
    if name in ("session_id", "revision_id", "number"):
        wrong = WRONG_IDS
    return [good.get(name, "chain"), *wrong]


GOOD = {
    "session_id": "1", "strip": "drum", "begin": "0", "end": "1000", "columns": "10",
    "before": "1000", "kind": "gate", "name": "drum", "place": "drum", "revision_id": "1",
    "number": "1",
}  # fmt: skip


def wrong_requests(path: str, reported: dict[str, Any]) -> Iterator[str]:
    """One wrong value at a time, in the path or in the query."""
    parameters = reported.get("parameters", [])
    values = {p["name"]: values_of(p, GOOD) for p in parameters}
    for name in values:
        for value in values[name]:
            chosen = {n: v[0] for n, v in values.items()} | {name: value}
            filled = re.sub(r"{(\w+)}", lambda m, c=chosen: c[m.group(1)], path)
            query = [f"{p['name']}={chosen[p['name']]}" for p in parameters if p["in"] == "query"]
            yield filled + ("?" + "&".join(query) if query else "")
    if not parameters:
        yield path


@pytest.mark.parametrize(("method", "path", "reported"), routes(), ids=lambda x: str(x)[:60])
def test_no_route_breaks(server: Server, method: str, path: str, reported: dict[str, Any]) -> None:
    addresses = list(wrong_requests(path, reported))
    bodies = WRONG_BODIES if "requestBody" in reported else []
    # One thing wrong at a time: the address, or what is sent to a right one.
    tried = [(a, None) for a in addresses] + [(addresses[0], b) for b in bodies]
    for address, body in tried:
        if method == "DELETE" and address == "/api/sessions/1":
            continue
        sent: dict[str, Any] = {} if body is None else {"json": body}
        if path.endswith("/audio"):
            sent = {"content": b"no audio"}
        answer = server.http.request(method, address, **sent)
        assert answer.status_code < 500, (method, address, body, answer.text)
        if answer.status_code in (404, 409, 413, 422) and address.startswith("/api/sessions/1/"):
            assert len(answer.json()["error"]) > 5, (method, address, body)
    assert server.http.get("/api/sessions/1").status_code == 200


@pytest.mark.parametrize(
    ("wrong", "said"),
    [({"name": "x" * 81}, "name is too long; at most 80 characters are allowed"),
     ({"name": ""}, "name is empty"),
     ({"name": "a\nb"}, "name is 'a\\nb'; it has characters that are not allowed"),
     ({"value": "much"}, "value is 'much'; a number is wanted")],
)  # fmt: skip
def test_what_is_wrong_is_said_in_a_sentence(
    server: Server, wrong: dict[str, Any], said: str
) -> None:
    edits = {"base": 1, "edits": [{"type": "set_lever", "lever": "l", **wrong}]}
    answer = server.http.post(f"/api{server.path}/edits", json=edits)
    assert (answer.status_code, answer.json()["error"]) == (422, said)


def test_an_origin_that_is_none(server: Server) -> None:
    assert server.http.get("/api/sessions", headers={"Origin": "http://["}).status_code == 403


ODD: list[Any] = [None, -1, 1 << 70, "nobody", "\x00", [], {}, [1], True, 0.5, float("nan")]
EDIT: TypeAdapter[Edit] = TypeAdapter(Edit)


EDITS = {t.model_fields["type"].default: t for t in get_args(get_args(Edit)[0])}


@pytest.mark.parametrize("kind", sorted(EDITS))
def test_no_edit_breaks(kind: str) -> None:
    """A wrong field of an edit is a refusal, whatever else is right in it."""
    session = small_session()
    good = {"strip": "a", "stage": "a1", "place": "a", "owner": "a", "kind": "gate", "index": 0,
            "control": "fader_db", "to": "bus", "field": "name", "slot": "B", "name": "x",
            "value": 0.5, "by": "bands", "lever": "l", "params": {}}  # fmt: skip
    model = EDITS[kind]
    for field, value in itertools.product(model.model_fields, ODD):
        known = {n: v for n, v in good.items() if n in model.model_fields}
        try:
            EDIT.validate_python({**known, field: value, "type": kind}).apply(session)
        except (ValidationError, CoreError) as error:
            assert str(error)


def test_a_socket_outlives_what_is_thrown_at_it(server: Server) -> None:
    tab, other = Tab(server, 1), Tab(server, 1)
    other.say(type="play", frame=0)
    huge = 10**18
    messages: list[Any] = [
        {"type": "loop", "begin": 0, "end": huge}, {"type": "loop", "begin": huge, "end": 5},
        {"type": "preview", "edits": [{"type": "set_session", "name": "a\x00b"}]},
        {"type": "preview", "edits": [{"type": "set_strip", "strip": "drum", "field": "name",
                                       "value": "\x00"}]},
        {"type": "seek", "frame": huge}, {"type": "play", "frame": -1}, {"type": "harp"}, [], 1,
        {"type": "listen", "strip": "nobody", "at": "nowhere"}, {"type": "open", "session": 77},
        {"type": "listen", "strip": "drum", "at": "\x00"}, {"type": "played", "epoch": -1},
        {"type": "surface", "part": "fader", "number": 99},
    ]  # fmt: skip
    for _ in range(20):
        for message in messages:
            tab.socket.send(json.dumps(message))
        tab.socket.send(b"\x00\xff" * 50)
        tab.socket.send("{" * 100)
    tab.say(type="seek", frame=4800)
    while tab.wait("transport")["frame"] != 4800:
        pass
    refused = [e for e in tab.events if e["type"] == "refused"]
    assert 1 <= len(refused) < 40
    places, sound, _ = other.sound(48_000)
    assert places[0] == 0
    assert abs(sound).max() < 1000
    assert not [e for e in other.events if e["type"] == "refused"]
    for one in (tab, other):
        one.close()
