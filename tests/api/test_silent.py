"""What carries nothing is told in the ledger: a key from an empty bus."""

from tests.server import Server


def test_a_silent_key_is_a_caution_of_its_stage_alone(server: Server) -> None:
    edits = [
        {"type": "add_strip", "strip": {"name": "Empty", "kind": "bus"}},
        {"type": "add_split", "by": "bands", "around": ["drum-c"], "bands": 2},
    ]
    state = server.api("POST", f"{server.path}/edits", {"base": server.base, "edits": edits})
    empty = next(s["id"] for s in state["model"]["strips"] if s["name"] == "Empty")
    chain = next(s for s in state["model"]["strips"] if s["id"] == "drum")["chain"]
    split = next(e for e in chain if e["kind"] == "split")
    more = [
        {"type": "set_stage", "stage": "drum-c", "key": {"source": f"strip:{empty}"}},
        {"type": "set_split", "split": split["id"], "crossovers_hz": [19_900]},
    ]
    base = state["revision"]
    server.api("POST", f"{server.path}/edits", {"base": base, "edits": more})
    tab = server.tab()

    def words(at: str) -> list[str]:
        path = f"{server.path}/strips/drum/ledger?at={at}&begin=0&end=192000"
        while (answer := server.api("GET", path))["done"] < 1:
            tab.wait("analysed")
        return [c["words"] for c in answer["ledger"]["cautions"]]

    assert "The key, Empty, carries nothing here." in words("drum-c")
    assert not any("key" in w for w in words(split["id"]))
    tab.close()
