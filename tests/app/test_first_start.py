"""A first start may be killed at any moment: the next one makes it good, and a later one changes nothing."""

import random
import subprocess
import sys
import time

import psycopg

from cluster import Server
from fenrik.demo import DEMO_JOBS, demo_job
from fenrik.demo.shop import SHOP_MATERIALS, SHOP_TOOLS

KILLS = 8


def counts(url):
    with psycopg.connect(url) as connection:
        tables = ("job", "library_tool", "library_material", "task", "procrastinate_jobs")
        return [connection.execute(f"select count(*) from {t}").fetchone()[0] for t in tables]


def test_a_first_start_is_killed_again_and_again(own_cluster):
    url = own_cluster.database("first_start")
    server = Server(url)
    chance = random.Random(11)
    began = time.monotonic()
    subprocess.run([sys.executable, "-c", "import fenrik.app.migrate, fenrik.demo"], check=True)
    loading = time.monotonic() - began
    for _ in range(KILLS):
        command = [sys.executable, "-m", "fenrik.cli", "migrate"]
        process = subprocess.Popen(command, env=server.environment)
        time.sleep(chance.uniform(0.8, 1.3) * loading)
        process.kill()
        process.wait()
    for _ in range(2):
        done = server.run("migrate")
        assert done.returncode == 0, done.stderr
        setups = sum(bool(demo_job(n).route(s)) for n in DEMO_JOBS for s in demo_job(n).setups)
        assert counts(url) == [len(DEMO_JOBS), len(SHOP_TOOLS), len(SHOP_MATERIALS), setups, setups]
