"""A server that others reach: with TLS of its own, and three accounts."""

import subprocess

import httpx
import pytest

from cluster import Server

PASSWORDS = {
    "ada": ("run", "brass fog signal nineteen"),
    "ben": ("program", "granite stairway herring moon"),
    "eve": ("look", "seven gulls over tarred rope"),
}


@pytest.fixture(scope="session")
def certificate(tmp_path_factory):
    """A certificate of its own with its key in one file."""
    folder = tmp_path_factory.mktemp("tls")
    key, made, both = folder / "key.pem", folder / "made.pem", folder / "both.pem"
    command = ["openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-days", "2", "-subj", "/CN=localhost"]
    subprocess.run([*command, "-keyout", str(key), "-out", str(made)], check=True, capture_output=True)
    both.write_text(key.read_text() + made.read_text())
    return both


@pytest.fixture(scope="session")
def guarded(own_cluster, certificate):
    server = Server(own_cluster.database("accounts"), "https")
    assert server.run("migrate", "--no-demo").returncode == 0
    for name, (role, password) in PASSWORDS.items():
        done = server.run("account", "add", name, "--role", role, "--password-stdin", input=f"{password}\n")
        assert done.returncode == 0, done.stderr
    server.start("--host", "0.0.0.0", "--certificate", str(certificate), "--workers", "1")
    yield server
    server.stop()


@pytest.fixture
def visitor(guarded):
    """Somebody who has not signed in."""
    with httpx.Client(base_url=guarded.address, verify=False, timeout=60) as client:
        yield client


@pytest.fixture
def signed(guarded):
    """Gives clients of people who are signed in, by name."""
    made = []

    def sign_in(name):
        client = httpx.Client(base_url=guarded.address, verify=False, timeout=60)
        made.append(client)
        answer = client.post("/api/session", json={"name": name, "password": PASSWORDS[name][1]})
        assert answer.status_code == 200, answer.text
        return client

    yield sign_in
    for client in made:
        client.close()
