"""What carries nothing is told: a key from an empty bus, a band behind a steep cut."""

from tests.server import Server


def test_a_silent_key_and_a_silent_band_are_told_where_they_are(server: Server) -> None:
    cut = {"bands": [{"type": "high-cut", "hz": 200, "slope": "48"}]}
    edits = [
        {"type": "add_strip", "strip": {"name": "Empty", "kind": "bus"}},
        {"type": "add_stage", "place": "drum", "index": 0, "kind": "tone", "params": cut},
        {"type": "add_split", "by": "bands", "around": ["drum-c"], "bands": 2},
    ]
    state = server.api("POST", f"{server.path}/edits", {"base": server.base, "edits": edits})
    empty = next(s["id"] for s in state["model"]["strips"] if s["name"] == "Empty")
    chain = next(s for s in state["model"]["strips"] if s["id"] == "drum")["chain"]
    split = next(e for e in chain if e["kind"] == "split")
    more = [
        {"type": "set_stage", "stage": "drum-c", "key": {"source": f"strip:{empty}"}},
        {"type": "set_split", "split": split["id"], "crossovers_hz": [12_000]},
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
    band = split["branches"][1]["name"]
    nothing = [w for w in words(split["id"]) if "carries nothing" in w]
    assert nothing == [f"The band {band} carries nothing here."]
    tab.close()
