"""What tabs ask for: in order, the newest of what replaces itself, nothing for a closed tab."""

from salt_anvil.live.inbox import Inbox


def taken(inbox: Inbox) -> list[tuple]:
    return [inbox.take() for _ in range(len(inbox))]


def command(tab: int, kind: str, text: str = "") -> tuple:
    return ("command", tab, kind, text)


def test_only_the_newest_seek_counts_and_goes_last() -> None:
    inbox = Inbox()
    for message in (command(1, "seek", "a"), command(1, "play"), command(1, "seek", "b")):
        inbox.put(message)
    assert taken(inbox) == [command(1, "play"), command(1, "seek", "b")]


def test_plays_are_all_done_and_a_stop_first() -> None:
    inbox = Inbox()
    for message in (command(1, "play", "1"), command(1, "play", "2"), command(2, "stop")):
        inbox.put(message)
    assert taken(inbox) == [command(2, "stop"), command(1, "play", "1"), command(1, "play", "2")]


def test_one_model_a_session() -> None:
    inbox = Inbox()
    for name in ("old", "other", "new"):
        inbox.put(("model", [1], 7 if name != "other" else 8, name, {}))
    assert [m[3] for m in taken(inbox)] == ["other", "new"]


def test_a_flood_of_previews_is_one() -> None:
    inbox = Inbox()
    for index in range(10_000):
        inbox.put(command(1, "preview", str(index)))
    assert taken(inbox) == [command(1, "preview", "9999")]


def test_what_a_closed_tab_asked_for_is_dropped() -> None:
    inbox = Inbox()
    inbox.put(("open", 1, 7, {}, 0))
    inbox.put(command(1, "play"))
    inbox.put(command(2, "play"))
    inbox.put(("close", 1))
    assert taken(inbox) == [command(2, "play"), ("close", 1)]
