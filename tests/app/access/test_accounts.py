"""Accounts, sessions and roles where others than this machine reach the server (OWASP ASVS 4.0.3, chapters V2 to V4)."""

import json
from datetime import timedelta

import httpx
import psycopg
import pytest
from people import PASSWORDS

from fenrik.app.access.accounts import FREE_TRIES, LONGEST_WAIT, _locked_until, check_password
from fenrik.app.main import app
from fenrik.app.routers.accounts import TRIES
from fenrik.app.serve import check_reach
from fenrik.app.settings import Serving
from fenrik.app.tables import now
from fenrik.core.errors import FenrikError

EVERYBODYS = {"/api/session", "/api/health", "/api/ready", "/api/metrics"}


@pytest.mark.parametrize(
    ("serving", "told"),
    [
        (Serving("0.0.0.0"), "--certificate"),
        (Serving("192.0.2.1"), "--certificate"),
        (Serving(public_url="http://fenrik.shop.example"), "--certificate"),
        (Serving(public_url="https://fenrik.shop.example"), "fenrik account add"),
        (Serving("::", certificate="both.pem"), "fenrik account add"),
    ],
)
def test_a_server_that_others_reach_does_not_start_without_tls_and_accounts(serving, told, monkeypatch):
    monkeypatch.setattr("fenrik.app.serve.list_accounts", list)
    with pytest.raises(FenrikError) as error:
        check_reach(serving)
    assert told in error.value.problems[0].way_out
    check_reach(Serving())
    check_reach(Serving("localhost"))


def test_such_a_server_ends_at_once_and_says_what_to_do(guarded):
    done = guarded.run("serve", "--host", "0.0.0.0", "--port", "1")
    assert done.returncode == 1
    assert "--certificate" in done.stderr


def test_without_signing_in_nothing_is_open_but_the_way_in(visitor):
    assert visitor.get("/").status_code == 200
    assert visitor.get("/api/session").json() == {"needed": True, "name": "", "role": None}
    assert visitor.get("/api/metrics").status_code == 401
    routes = [(method.upper(), path) for path, methods in app.openapi()["paths"].items() for method in methods]
    assert len(routes) > 60
    for method, path in routes:
        if path in EVERYBODYS:
            continue
        some = path.replace("{number}", "1").replace("{form}", "csv").replace("{", "").replace("}", "")
        answer = visitor.request(method, some)
        assert answer.status_code == 401, (method, path)
        assert "problem+json" in answer.headers["content-type"]


def test_a_session_is_a_cookie_that_no_script_and_no_other_page_gets(visitor):
    answer = visitor.post("/api/session", json={"name": "ada", "password": PASSWORDS["ada"][1]})
    cookie = answer.headers["set-cookie"]
    assert cookie.startswith("__Host-fenrik=")
    for word in ("HttpOnly", "Secure", "SameSite=strict", "Path=/"):
        assert word in cookie
    assert "Domain" not in cookie
    assert "strict-transport-security" in answer.headers
    assert visitor.get("/api/session").json() == {"needed": True, "name": "ada", "role": "run"}


def test_signing_out_ends_the_session_at_the_server(signed):
    ada = signed("ada")
    word = dict(ada.cookies)
    assert ada.get("/api/jobs").status_code == 200
    assert ada.delete("/api/session").status_code == 204
    assert httpx.get(f"{ada.base_url}/api/jobs", cookies=word, verify=False).status_code == 401


def test_each_session_has_a_word_of_its_own_and_only_its_hash_is_kept(signed, guarded):
    words = [signed("ada").cookies["__Host-fenrik"] for _ in range(2)]
    assert words[0] != words[1]
    with psycopg.connect(guarded.environment["FENRIK_DATABASE"]) as connection:
        text = str(connection.execute("select * from session").fetchall())
        kept = str(connection.execute("select * from account").fetchall())
    assert words[0] not in text
    assert "$argon2id$" in kept
    assert all(password not in kept for _, password in PASSWORDS.values())


def test_a_session_ends_by_itself(signed, guarded):
    ada = signed("ada")
    with psycopg.connect(guarded.environment["FENRIK_DATABASE"], autocommit=True) as connection:
        connection.execute("update session set made_at = made_at - interval '13 hours'")
    import time

    time.sleep(2.5)
    assert ada.get("/api/jobs").status_code == 401


@pytest.mark.parametrize(
    ("name", "looks", "programs", "runs"), [("eve", 200, 403, 403), ("ben", 200, 201, 403), ("ada", 200, 201, 200)]
)
def test_roles(signed, name, looks, programs, runs):
    who = signed(name)
    assert who.get("/api/jobs").status_code == looks
    assert who.post("/api/number", json={"text": "1"}).status_code == looks
    assert who.post("/api/jobs", json={"name": "Roles"}).status_code == programs
    assert who.get("/api/accounts").status_code == runs
    recipe = who.get("/api/library/recipe").json()
    answer = who.put("/api/library/recipe", json=recipe)
    assert answer.status_code == runs
    if runs == 403:
        assert "run the shop" in answer.json()["title"]


def test_what_was_changed_carries_the_name(signed):
    ben = signed("ben")
    job = ben.post("/api/jobs", json={"name": "Whose"}).json()["id"]
    change = {"path": "name", "value": "Ben's", "check": False}
    ben.patch(f"/api/jobs/{job}", json={"label": "name", "changes": [change]}).raise_for_status()
    signed("ada").patch(
        f"/api/jobs/{job}", json={"label": "again", "changes": [{**change, "value": "Ada's"}]}
    ).raise_for_status()
    found = ben.get(f"/api/jobs/{job}/history").json()
    assert [(r["label"], r["by"]) for r in found] == [("again", "ada"), ("name", "ben"), ("new", "ben")]


def test_a_wrong_password_says_no_more_than_that_and_has_to_be_waited_for(guarded, visitor):
    name = "dora"
    password = "lamp oil and forty wet coats"
    guarded.run("account", "add", name, "--role", "look", "--password-stdin", input=f"{password}\n")
    wrong = [visitor.post("/api/session", json={"name": n, "password": "wrong wrong wrong"}) for n in (name, "nobody")]
    assert [w.status_code for w in wrong] == [422, 422]
    assert wrong[0].json()["problems"] == wrong[1].json()["problems"]
    for _ in range(FREE_TRIES - 1):
        visitor.post("/api/session", json={"name": name, "password": "wrong wrong wrong"})
    right = visitor.post("/api/session", json={"name": name, "password": password})
    assert right.status_code == 422
    assert "Try again in" in right.json()["problems"][0]["way_out"]


def test_waits_double_up_to_a_quarter_of_an_hour():
    waits = [(_locked_until(FREE_TRIES + k) - now()).total_seconds() for k in range(20)]
    assert [round(w) for w in waits[:4]] == [2, 4, 8, 16]
    assert timedelta(seconds=round(waits[-1])) == LONGEST_WAIT
    assert _locked_until(FREE_TRIES - 1) is None


def test_passwords_that_are_easily_guessed_are_refused():
    for weak in ("short", "passwordpassword", "aaaaaaaaaaaaaaaa", "ada-ada-ada-ada", "x" * 200, "123456789012"):
        with pytest.raises(FenrikError) as error:
            check_password("ada", weak)
        assert error.value.problems[0].way_out
    for _, (_, good) in PASSWORDS.items():
        check_password("ada", good)
    check_password("ada", "Übergroße Kähne 船 im Watt")


def test_accounts_by_the_one_who_runs_the_shop(signed, visitor):
    ada = signed("ada")
    new = {"name": "finn", "role": "look", "password": "kelp and cobalt forty knots"}
    assert "finn" in [a["name"] for a in ada.post("/api/accounts", json=new).json()]
    assert ada.post("/api/accounts", json=new).status_code == 422
    finn = {"name": "finn", "password": new["password"]}
    assert visitor.post("/api/session", json=finn).json()["role"] == "look"
    assert ada.patch("/api/accounts/finn", json={"role": "program"}).status_code == 200
    # Another role ends the sessions.
    assert visitor.get("/api/jobs").status_code == 401
    assert visitor.post("/api/session", json=finn).json()["role"] == "program"
    changed = {"old": new["password"], "new": "other kelp and cobalt sixty knots"}
    assert visitor.put("/api/session/password", json={**changed, "old": "wrong wrong wrong"}).status_code == 422
    assert visitor.put("/api/session/password", json=changed).status_code == 204
    assert visitor.get("/api/jobs").status_code == 401
    assert ada.delete("/api/accounts/finn").status_code == 204
    assert ada.delete("/api/accounts/ada").status_code == 422
    assert "nobody who runs" in ada.patch("/api/accounts/ada", json={"role": "look"}).json()["problems"][0]["message"]


def test_accounts_at_the_command_line(guarded):
    done = guarded.run("account", "add", "gil", "--role", "look", "--password-stdin", input="short\n")
    assert done.returncode == 1
    assert "12 to 128 characters" in done.stderr
    done = guarded.run("account", "add", "no name", "--role", "look", "--password-stdin", input="x\n")
    assert done.returncode == 1
    listed = json.loads(guarded.run("account", "list").stdout)
    assert {a["name"] for a in listed} >= set(PASSWORDS)
    assert "password" not in str(listed)


def test_too_many_tries_from_one_address_are_turned_away(guarded):
    """At the very end of this file: the address is that of all tests."""
    with httpx.Client(base_url=guarded.address, verify=False, timeout=60) as client:
        codes = [
            client.post("/api/session", json={"name": f"n{k}", "password": "wrong"}).status_code
            for k in range(TRIES.amount + 1)
        ]
    assert codes[-1] == 429
