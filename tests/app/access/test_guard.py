"""What does not come from Fenrik's own pages is refused, and every answer carries its headers (OWASP secure headers,
OWASP cheat sheet on cross-site request forgery)."""

import re
import socket

import pytest

from fenrik.app.access.guard import MAX_REQUEST_BYTES
from fenrik.app.settings import Serving

DEMO = "/api/jobs/lantern-bracket"


@pytest.mark.parametrize("host", ["evil.example", "127.0.0.1.evil.example", "evil.example:8040", "", "[", "10.0.0.7"])
def test_another_host_name_is_refused(client, host):
    for path in ("/", "/api/jobs", "/api/health"):
        answer = client.get(path, headers={"host": host})
        assert answer.status_code == 421
        assert answer.json()["problems"][0]["way_out"]


@pytest.mark.parametrize("name", ["127.0.0.1", "localhost", "[::1]"])
def test_the_names_of_this_machine_are_known(client, name):
    assert client.get("/api/health", headers={"host": f"{name}:{client.base_url.port}"}).status_code == 200


@pytest.mark.parametrize(
    "sent",
    [
        {"origin": "http://evil.example"},
        {"origin": "null"},
        {"origin": "http://127.0.0.1:1"},
        {"sec-fetch-site": "cross-site"},
        {"sec-fetch-site": "same-site", "origin": "http://127.0.0.1:1"},
    ],
)
def test_a_foreign_page_can_change_nothing(client, sent):
    before = client.get(DEMO).json()["version"]
    for method, path, rest in (
        ("POST", f"{DEMO}/undo", {}),
        ("POST", "/api/jobs/import", {"files": {"file": ("j.json", b'{"name": "foreign"}')}}),
        ("POST", f"{DEMO}/setups/top/order", {}),
        ("DELETE", DEMO, {}),
        ("PATCH", DEMO, {"json": {"changes": [{"path": "name", "value": "x", "check": False}]}}),
    ):
        assert client.request(method, path, headers=sent, **rest).status_code == 403
    assert client.get(DEMO).json()["version"] == before
    assert "foreign" not in client.get("/api/jobs").text


def test_a_page_elsewhere_cannot_read_either(client):
    assert client.get("/api/jobs", headers={"sec-fetch-site": "cross-site"}).status_code == 403
    assert (
        "access-control-allow-origin" not in client.get("/api/jobs", headers={"origin": "http://evil.example"}).headers
    )


def test_its_own_pages_may(client):
    own = {"origin": str(client.base_url).rstrip("/"), "sec-fetch-site": "same-origin"}
    assert client.post("/api/number", json={"text": "1"}, headers=own).status_code == 200


def test_every_answer_says_what_a_browser_may_do_with_it(client):
    for path in ("/", "/jobs/x", "/api/jobs", "/api/nothing", "/assets/none.js", "/openapi.json"):
        found = client.get(path).headers
        assert found["x-content-type-options"] == "nosniff"
        assert "frame-ancestors 'none'" in found["content-security-policy"]
        assert "default-src 'none'" in found["content-security-policy"]
        assert "unsafe" not in found["content-security-policy"]
        assert found["referrer-policy"] == "no-referrer"
        assert found["cross-origin-resource-policy"] == "same-origin"
        assert re.fullmatch(r"[0-9a-f]{12}", found["x-request-id"])
        assert "server" not in found
    assert client.get("/api/jobs").headers["cache-control"] == "no-store"


def test_a_script_that_runs_as_a_worker_may_hear_events(client):
    script = re.search(r'src="(/assets/[^"]+\.js)"', client.get("/").text)[1]
    policy = client.get(script).headers["content-security-policy"]
    assert "connect-src 'self'" in policy
    assert "default-src 'none'" in policy


def test_the_page_has_a_nonce_of_its_own_each_time(client):
    nonces = set()
    for _ in range(3):
        answer = client.get("/")
        nonce = re.search(r"'nonce-([^']+)'", answer.headers["content-security-policy"])[1]
        assert f'nonce="{nonce}"' in answer.text
        assert "--nonce--" not in answer.text
        nonces.add(nonce)
    assert len(nonces) == 3


@pytest.mark.parametrize(
    "path", ["/%00", "/" + "a" * 300, "/" + "a/" * 3000, "/%ff%fe", "/..%2f..%2fetc/passwd", "//etc/passwd"]
)
def test_odd_addresses_lead_to_the_page(client, path):
    answer = client.get(path)
    assert answer.status_code in (200, 404)
    assert "root:" not in answer.text


def test_odd_values_are_refused_with_words(client, small_job):
    change = {"path": "files/²", "value": 1, "check": False}
    assert client.patch(f"/api/jobs/{small_job}", json={"label": "a", "changes": [change]}).status_code == 422
    for text in ("1e300*1e300", "(" * 150, "9**9", "1/0"):
        assert client.post("/api/number", json={"text": text}).status_code == 422
    deep = b"[" * 100_000
    for path in ("/api/number", "/api/jobs"):
        answer = client.post(path, content=deep, headers={"content-type": "application/json"})
        assert answer.status_code in (400, 422)
        assert "problem+json" in answer.headers["content-type"]


def test_a_body_that_is_declared_too_large_is_not_waited_for(client):
    with socket.create_connection((client.base_url.host, client.base_url.port), 10) as sent:
        head = f"POST /api/jobs/import HTTP/1.1\r\nHost: localhost\r\nContent-Length: {MAX_REQUEST_BYTES + 1}\r\n\r\n"
        sent.sendall(head.encode())
        assert sent.recv(4096).startswith(b"HTTP/1.1 413")


def test_an_address_of_the_network_is_known_where_it_is_served():
    assert Serving("192.0.2.7").is_ours("192.0.2.7:8040")
    assert not Serving("192.0.2.7").is_ours("192.0.2.8:8040")
    assert Serving("0.0.0.0").is_ours("192.0.2.8:8040")
    assert not Serving("0.0.0.0").is_ours("evil.example")
    behind = Serving("127.0.0.1", "https://fenrik.shop.example")
    assert behind.is_ours("fenrik.shop.example")
    assert behind.secured
    assert not behind.on_loopback


def test_health_is_of_the_server_and_readiness_of_what_it_needs(client):
    assert client.get("/api/health").json()["version"]
    found = client.get("/api/ready")
    assert found.status_code == 200
    assert found.json()["workers"] >= 1
    figures = client.get("/api/metrics")
    assert figures.headers["content-type"].startswith("text/plain")
    assert re.search(r"^fenrik_workers [1-9]", figures.text, re.MULTILINE)
    assert re.search(r'^fenrik_tasks\{state="done"\} [1-9]', figures.text, re.MULTILINE)
