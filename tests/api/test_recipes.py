"""The library over HTTP: kept, brought in, changed, let go; a broken file changes nothing."""

import json
from typing import Any

import pytest

from salt_anvil.store.database import Database
from tests.server import Server

GOOD = {
    "format": "salt-anvil/recipe",
    "version": 1,
    "name": "Brought",
    "tags": ["drums"],
    "chain": [{"kind": "gate", "key": {"source": "input:key"}}],
}


def own(server: Server) -> list[dict[str, Any]]:
    return [item for item in server.api("GET", "/recipes") if not item["ours"]]


def test_kept_changed_brought_in_again_and_let_go(server: Server) -> None:
    before = len(own(server))
    wish = {"extent": {"kind": "chain", "owner": "drum"}, "name": "Mine", "note": "Why.",
            "tags": ["drums"]}  # fmt: skip
    made = server.api("POST", f"{server.path}/recipes", wish)
    assert (made["what"], made["words"], made["inputs"]) == ("stage", "compressor", [])
    assert own(server)[0] == made
    path = f"/recipes/{made['id']}"
    changed = server.api("PUT", path, {"name": "Ours now", "note": "", "tags": []})
    assert changed["recipe"]["chain"] == made["recipe"]["chain"]
    again = server.api("POST", "/recipes", changed["recipe"])
    assert {**again, "id": ""} == {**changed, "id": ""}
    put = {"type": "apply_recipe", "extent": wish["extent"], "recipe": again["recipe"]}
    body = {"base": server.base, "edits": [put]}
    chain = server.api("POST", f"{server.path}/edits", body)["model"]["strips"][0]["chain"]
    assert [s["kind"] for s in chain] == ["compressor"]
    for number in (made["id"], again["id"]):
        server.api("DELETE", f"/recipes/{number}")
    assert len(own(server)) == before
    assert server.http.delete(f"/api{path}").status_code == 404
    assert server.http.put(f"/api{path}", json={"name": "x"}).status_code == 404


@pytest.mark.parametrize(("text", "words"), [
    ('{"format": "salt-anvil/recipe",\n "version": 1,\n "chain": [}', "line 3"),
    (b"\xff\xfe\x00", "not JSON"),
    ("[" * 100_000, "not JSON"),
    ("[]", "is no recipe"),
    ('{"chain": []}', "is no recipe"),
    (json.dumps(GOOD | {"version": 2}), "version"),
    (json.dumps(GOOD | {"chain": [{"kind": "harp"}]}), "harp"),
    (json.dumps(GOOD | {"chain": [{"kind": "gate", "params": {"hold_ms": 1e9}}]}), "hold_ms"),
    (json.dumps(GOOD | {"strip": {"fader_db": 400}}), "fader_db"),
    (json.dumps(GOOD | {"colour": "red"}), "colour"),
])  # fmt: skip
def test_a_broken_file_changes_nothing(server: Server, text: Any, words: str) -> None:
    before = own(server)
    refused = server.http.post("/api/recipes", content=text)
    assert refused.status_code == 422
    assert words in refused.json()["error"]
    assert own(server) == before


def test_one_that_cannot_be_read_is_said_and_the_others_stay(server: Server) -> None:
    made = server.api("POST", "/recipes", GOOD)
    with Database(server.data / "salt-anvil.db").writing() as connection:
        connection.execute(
            "INSERT INTO recipes (name, body, created_at) VALUES ('Newer', ?, 0)",
            (json.dumps(GOOD | {"version": 9}),),
        )
    newer, mine = own(server)[:2]
    refused = server.http.put(f"/api/recipes/{newer['id']}", json={"name": "x"})
    assert 400 <= refused.status_code < 500
    assert "cannot be used" in refused.json()["error"]
    assert newer["name"] == "Newer"
    assert "cannot be used" in newer["problem"]
    assert (mine["id"], mine["inputs"]) == (made["id"], ["key"])
    for item in (newer, mine):
        server.api("DELETE", f"/recipes/{item['id']}")


def test_a_try_is_measured_beside_what_stands(server: Server) -> None:
    extent = {"kind": "stretch", "owner": "drum", "after": "drum-c"}
    recipe = {"name": "Down", "chain": [{"kind": "trim", "params": {"gain_db": -9}}]}
    tried = {"type": "apply_recipe", "extent": extent, "recipe": recipe}
    wish = {"extent": {"kind": "chain", "owner": "drum"}, "in_mix": True, "end": 576_000,
            "tried": tried}  # fmt: skip
    tab = server.tab()
    while (answer := server.api("POST", f"{server.path}/compare", wish))["done"] < 1:
        tab.wait("compared", "analysed")
    tab.close()
    rows = {r["slot"]: r for r in answer["rows"]}
    assert list(rows) == ["in", "stands", "tried"]
    levels = {slot: row["figures"]["integrated_lufs"] for slot, row in rows.items()}
    assert levels["tried"] == pytest.approx(levels["stands"] - 9, abs=0.02)
    plays = [levels[slot] + rows[slot]["plays_db"] for slot in rows]
    assert max(plays) - min(plays) < 1e-6
    # What is missing is said, and nothing is stored.
    wish["tried"] = tried | {"recipe": GOOD}
    answer = server.api("POST", f"{server.path}/compare", wish)
    assert "choose what that is" in answer["rows"][2]["problem"]
    assert server.api("GET", server.path)["revision"] == server.base
