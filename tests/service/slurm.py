"""A study through a real Slurm: a controller and a node of this machine, started here and stopped at the end.

Usage: slurm.py HEDGEROW_CLI EXAMPLES. An array runs to its end; of a second one the node's daemon and its tasks are killed in the middle,
the daemon comes back, and all rows are there in the end; a third one is cancelled. Ends with 77 (skipped) where Slurm is not installed.
"""

import getpass
import json
import os
import pathlib
import shutil
import signal
import socket
import subprocess
import sys
import tempfile
import time

CLI, EXAMPLES = sys.argv[1], pathlib.Path(sys.argv[2])
SBIN = os.pathsep.join([os.environ.get("PATH", ""), "/usr/sbin", "/sbin"])


def program(name):
    return shutil.which(name, path=SBIN)


def free_ports(count):
    sockets = [socket.socket() for _ in range(count)]
    for one in sockets:
        one.bind(("127.0.0.1", 0))
    ports = [one.getsockname()[1] for one in sockets]
    for one in sockets:
        one.close()
    return ports


class Cluster:
    """A controller and one node, with everything they write in a folder of their own."""

    def __init__(self, folder):
        self.folder = folder
        self.host = socket.gethostname().split(".")[0]
        self.daemons = []
        control, node = free_ports(2)
        for name in ("state", "spool", "log", "run"):
            (folder / name).mkdir()
        key = folder / "munge.key"
        key.write_bytes(os.urandom(1024))
        key.chmod(0o400)
        self.socket = folder / "munge.socket"
        self.start([program("munged"), "--force", "--foreground", f"--key-file={key}", f"--socket={self.socket}", f"--pid-file={folder}/run/munged.pid",
                    f"--log-file={folder}/log/munged.log", f"--seed-file={folder}/munge.seed"], "munged")
        wait(self.socket.exists, 20, "munged")
        user = getpass.getuser()
        self.config = folder / "slurm.conf"
        self.config.write_text(f"""
ClusterName=orchard
SlurmctldHost={self.host}(127.0.0.1)
SlurmctldPort={control}
SlurmdPort={node}
AuthType=auth/munge
CredType=cred/munge
AuthInfo=socket={self.socket}
SlurmUser={user}
SlurmdUser={user}
ProctrackType=proctrack/pgid
TaskPlugin=task/none
SelectType=select/cons_tres
SelectTypeParameters=CR_CPU
JobAcctGatherType=jobacct_gather/none
AccountingStorageType=accounting_storage/none
StateSaveLocation={folder}/state
SlurmdSpoolDir={folder}/spool
SlurmctldPidFile={folder}/run/slurmctld.pid
SlurmdPidFile={folder}/run/slurmd.pid
SlurmctldLogFile={folder}/log/slurmctld.log
SlurmdLogFile={folder}/log/slurmd.log
SlurmdTimeout=6
SlurmctldTimeout=10
ReturnToService=2
MinJobAge=2
SchedulerParameters=sched_interval=1,sched_min_interval=0,bf_interval=1
NodeName={self.host} NodeAddr=127.0.0.1 CPUs={os.cpu_count()} State=UNKNOWN
PartitionName=day Nodes={self.host} Default=YES MaxTime=INFINITE State=UP
""")
        self.environment = dict(os.environ, SLURM_CONF=str(self.config), PATH=SBIN)
        self.start([program("slurmctld"), "-D", "-f", str(self.config)], "slurmctld")
        self.start_node()
        wait(lambda: "idle" in self.run("sinfo", "-h", "-o", "%t").stdout, 60, "the node")

    def start(self, command, name):
        log = open(self.folder / f"{name}.out", "ab")
        self.daemons.append(subprocess.Popen(command, stdout=log, stderr=log, stdin=subprocess.DEVNULL, start_new_session=True))
        return self.daemons[-1]

    def start_node(self):
        self.node = self.start([program("slurmd"), "-D", "-f", str(self.config), "-N", self.host], "slurmd")

    def kill_node(self):
        """The daemon and every task under it, without a word to the controller: what a node that loses its power does."""
        self.node.kill()
        self.node.wait()
        for process in pathlib.Path("/proc").glob("[0-9]*"):
            try:
                environment = (process / "environ").read_bytes()
                command = (process / "cmdline").read_bytes()
            except OSError:
                continue
            if str(self.config).encode() in environment and (b"slurmstepd" in command or b"SLURM_ARRAY_TASK_ID" in environment):
                try:
                    os.kill(int(process.name), signal.SIGKILL)
                except ProcessLookupError:
                    pass

    def run(self, *command):
        return subprocess.run(command, env=self.environment, capture_output=True, text=True)

    def study(self, *arguments, check=True):
        done = self.run(CLI, "study", *map(str, arguments))
        if check and done.returncode != 0:
            raise SystemExit(f"study {arguments}: {done.returncode}\n{done.stdout}\n{done.stderr}")
        return done

    def stop(self):
        self.kill_node()
        for daemon in reversed(self.daemons):
            daemon.kill()
            daemon.wait()


def wait(holds, seconds, what):
    end = time.monotonic() + seconds
    while not holds():
        if time.monotonic() > end:
            raise SystemExit(f"{what}: not within {seconds} s")
        time.sleep(0.1)


def status(cluster, folder):
    return json.loads(cluster.study("status", folder, "--json").stdout)


def rows(cluster, folder):
    return json.loads(cluster.study("gather", folder, "--json").stdout)


def check(condition, what):
    if not condition:
        raise SystemExit("failed: " + what)
    print("ok:", what, flush=True)


def question(folder, runs, end):
    return [EXAMPLES / "med-aux.hedge", folder, "--plan", "start-up", "--vary", f"Rload: 2 to 6 in {runs}", "--vary", f"fsw: {end}", "--measure",
            "pp of out.v over last 20u", "--chunk", "2"]


def main():
    if not all(program(name) for name in ("slurmctld", "slurmd", "sbatch", "munged")):
        print("Slurm is not installed here")
        sys.exit(77)
    with tempfile.TemporaryDirectory(prefix="orchard-") as temporary:
        place = pathlib.Path(temporary)
        cluster = Cluster(place / "c" if (place / "c").mkdir() is None else place)
        try:
            # An array to its end, against the same study on this machine.
            first = place / "it's a folder"
            cluster.study("split", *question(first, 8, "200k, 250k"))
            told = cluster.study("submit", first, "--wait", "--time", "10", "--json").stdout
            table = json.loads(told)
            check(table["rows"] == 16 and table["measures"][0]["failed"] == 0, "an array runs to its end with all rows")
            plain = place / "plain.study"
            here = question("", 8, "200k, 250k")
            direct = json.loads(cluster.study(here[0], *here[2:-2], "--file", plain, "--json").stdout)
            for key in ("mean", "deviation", "least", "greatest"):
                check(direct["measures"][0][key] == table["measures"][0][key], f"the same {key} as on this machine alone")
            check(cluster.study("submit", first).stdout.startswith("0 of 8 chunks sent"), "what is there is not sent again")

            # The node loses its power in the middle and comes back.
            second = place / "second"
            cluster.study("split", *question(second, 100, "200k, 250k"))
            waiting = subprocess.Popen([CLI, "study", "submit", str(second), "--wait", "--json"], env=cluster.environment, stdout=subprocess.PIPE, text=True)
            wait(lambda: 3 <= status(cluster, second)["done"] < 90, 60, "the first chunks of the second array")
            cluster.kill_node()
            broken = status(cluster, second)["done"]
            check(broken < 100, f"the node is killed after {broken} of 100 chunks")
            time.sleep(8)
            check(status(cluster, second)["done"] == broken, "nothing runs without it")
            check(rows(cluster, second)["rows"] == 2 * broken, "what was done is gathered meanwhile")
            cluster.start_node()
            out, _ = waiting.communicate(timeout=400)
            table = json.loads(out)
            check(waiting.returncode == 0 and table["rows"] == 200 and table["measures"][0]["failed"] == 0, "all rows are there in the end")

            # Cancelled, and refused by the site.
            third = place / "third"
            cluster.study("split", *question(third, 100, "200k, 250k"))
            cluster.study("submit", third, "--together", "1")
            cluster.study("cancel", third)
            wait(lambda: status(cluster, third)["running"] + status(cluster, third)["waiting"] == 0, 30, "the queue")
            left = status(cluster, third)
            check(left["not sent"] == 100 - left["done"] > 0, "a cancelled array leaves the queue")
            refused = cluster.study("submit", third, "--partition", "night", check=False)
            check(refused.returncode == 3 and "partition" in refused.stderr, "what the site refuses is told in its own words")
        finally:
            cluster.stop()


main()
