"""Events reach every stream, and one that broke off goes on where it was."""

import asyncio
import json
import threading
from concurrent.futures import ThreadPoolExecutor

import httpx

from app_fixtures import patch
from fenrik.app.events import INBOX, KEPT, Hub


def run(work):
    """In a thread of its own: this one may have a loop already, that of the browser."""
    with ThreadPoolExecutor(1) as pool:
        return pool.submit(asyncio.run, work).result()


def heard(hub, last=None, count=1):
    """What a stream tells at once."""

    async def listen():
        stream = hub.stream("a", last)
        return [await asyncio.wait_for(anext(stream), 1) for _ in range(count)]

    return run(listen())


def test_a_new_stream_is_told_to_look_at_everything():
    assert [e.kind for e in heard(Hub())] == ["hello"]


def test_a_stream_catches_up_from_where_it_broke_off():
    hub = Hub()
    for k in range(5):
        hub.hand_out("job", str(k))
    third = [e.id for e in hub._kept][2]
    assert [e.data for e in heard(hub, third, 2)] == ["3", "4"]


def test_a_stream_from_before_the_servers_start_or_too_long_ago_looks_at_everything():
    hub = Hub()
    hub.hand_out("job", "first")
    first = hub._kept[0].id
    assert [e.kind for e in heard(hub, "12345678-1")] == ["hello"]
    for _ in range(KEPT):
        hub.hand_out("job", "{}")
    assert [e.kind for e in heard(hub, first)] == ["hello"]


def test_what_the_server_itself_may_have_missed_is_told():
    hub = Hub()
    hub.hand_out("job", "{}")
    last = hub._id()
    hub._forget()
    assert [e.kind for e in heard(hub, last)] == ["hello"]


def test_a_stream_that_does_not_keep_up_is_not_left_in_the_dark():
    hub = Hub()

    async def slow():
        stream = hub.stream("a", None)
        await anext(stream)
        other = hub.stream("b", None)
        await anext(other)
        for k in range(INBOX + 1):
            hub.hand_out("job", str(k))
            await anext(other)
        return [await anext(stream)], hub.count()

    events, count = run(slow())
    assert [e.kind for e in events] == ["hello"]
    assert count == 2


def test_one_client_cannot_take_all_streams(monkeypatch):
    monkeypatch.setattr("fenrik.app.events.MOST_OF_ONE", 2)
    hub = Hub()

    async def many():
        streams = [hub.stream("a", None) for _ in range(2)]
        for stream in streams:
            await anext(stream)
        full = hub.has_room("a"), hub.has_room("b")
        await streams[0].aclose()
        return *full, hub.has_room("a")

    assert run(many()) == (False, True, True)


def listen(server, until, last=None, ready=None):
    """Events as (id, kind, data) up to the first for which `until` holds."""
    found, one = [], {}
    headers = {"last-event-id": last} if last else {}
    with httpx.stream("GET", f"{server}/api/events", timeout=30, headers=headers) as stream:
        if ready is not None:
            ready.set()
        for line in stream.iter_lines():
            if line:
                name, _, value = line.partition(": ")
                one[name] = value
            elif "data" in one:
                found.append((one["id"], one["event"], json.loads(one["data"])))
                one = {}
                if until(found[-1]):
                    return found
    return found


def test_what_happens_while_a_stream_is_broken_is_told_afterwards(server, client, small_job):
    mine = lambda e: e[2].get("job") == small_job  # noqa: E731
    found, ready = [], threading.Event()
    thread = threading.Thread(target=lambda: found.extend(listen(server, mine, ready=ready)), daemon=True)
    thread.start()
    assert ready.wait(10)
    while not found and thread.is_alive():
        patch(client, small_job, {"path": "name", "value": "One", "check": False}).raise_for_status()
        thread.join(0.5)
    last = found[-1][0]
    versions = [
        patch(client, small_job, {"path": "name", "value": f"N{k}", "check": False}).json()["version"] for k in range(3)
    ]
    seen = listen(server, lambda e: mine(e) and e[2].get("version") == versions[-1], last)
    assert [e[2]["version"] for e in seen if mine(e) and e[1] == "job" and e[2]["version"] in versions] == versions
    assert "hello" not in {e[1] for e in seen}


def test_what_is_told_of_a_job_says_what_the_list_shows_of_it(server, client, small_job):
    """So that no tab has to ask for the list: its row as it is now, and none of a job that is deleted."""
    copy = client.post(f"/api/jobs/{small_job}/duplicate").json()["id"]
    found, ready = [], threading.Event()
    gone = lambda e: e[1] == "jobs" and e[2]["job"] == copy and e[2]["head"] is None  # noqa: E731
    thread = threading.Thread(target=lambda: found.extend(listen(server, gone, ready=ready)), daemon=True)
    thread.start()
    assert ready.wait(10)
    patch(client, copy, {"path": "name", "value": "Lamp", "check": False}).raise_for_status()
    listed = next(j for j in client.get("/api/jobs").json() if j["id"] == copy)
    client.delete(f"/api/jobs/{copy}").raise_for_status()
    thread.join(20)
    heads = [e[2]["head"] for e in found if e[2].get("job") == copy and e[2]["head"]]
    assert listed in heads
    assert not thread.is_alive()
