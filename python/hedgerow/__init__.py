"""Hedgerow from Python: projects, runs and studies by the service of hedgerow-cli (JSON-RPC 2.0).

    import hedgerow
    with hedgerow.Service() as service:
        aux = service.open("examples/med-aux.hedge")
        table = aux.study(["C2.c: 47u, 100u, 220u"], ["pp of out.v over last 20u"])
        print(table["C2.c"], table["pp of out.v over last 20u"])

Arrays are numpy arrays where numpy is installed, else array.array of doubles. Times are in s, values in SI.
"""

import array
import base64
import itertools
import json
import os
import shutil
import subprocess
import sys
import tempfile
import threading

try:
    import numpy
except ImportError:
    numpy = None

__all__ = ["Error", "Service", "Project", "Run", "Table"]


class Error(Exception):
    """What the service answered instead of a result: its message, its code, and what it is about."""

    def __init__(self, error):
        super().__init__(error.get("message", ""))
        self.code, self.data = error.get("code", 0), error.get("data")


def _numbers(text):
    raw = base64.b64decode(text)
    if numpy is not None:
        return numpy.frombuffer(raw, dtype="<f8")
    values = array.array("d")
    values.frombytes(raw)
    if sys.byteorder != "little":
        values.byteswap()
    return values


class Service:
    """The program as a child process. @param command  the path of hedgerow-cli; $HEDGEROW_CLI or the PATH when not given"""

    def __init__(self, command=None, progress=None):
        command = command or os.environ.get("HEDGEROW_CLI") or shutil.which("hedgerow-cli")
        if not command:
            raise FileNotFoundError("hedgerow-cli is not on the PATH: say where it is, or set HEDGEROW_CLI")
        self._process = subprocess.Popen([command, "serve"], stdin=subprocess.PIPE, stdout=subprocess.PIPE)
        self._numbers, self._progress = itertools.count(1), progress
        self._waiting, self._lock = {}, threading.Lock()
        self._reader = threading.Thread(target=self._read, daemon=True)
        self._reader.start()

    def __enter__(self):
        return self

    def __exit__(self, *_):
        self.close()

    def close(self):
        if self._process.poll() is None:
            try:
                self.call("shutdown")
            except (Error, OSError):
                pass
            self._process.stdin.close()
            self._process.wait()
        self._reader.join()
        self._process.stdout.close()

    def _read(self):
        stream = self._process.stdout
        while True:
            length = 0
            line = stream.readline()
            while line not in (b"\r\n", b"\n", b""):
                if line.lower().startswith(b"content-length:"):
                    length = int(line.split(b":")[1])
                line = stream.readline()
            if line == b"":
                break
            message = json.loads(stream.read(length))
            if message.get("method") == "progress":
                if self._progress:
                    self._progress(message["params"]["at"])
                continue
            with self._lock:
                waiting = self._waiting.pop(message.get("id"), None)
            if waiting:
                waiting[1] = message
                waiting[0].set()
        with self._lock:
            gone, self._waiting = self._waiting, {}
        for waiting in gone.values():
            waiting[1] = {"error": {"message": "the service has ended"}}
            waiting[0].set()

    def _send(self, message):
        data = json.dumps(message).encode()
        with self._lock:
            self._process.stdin.write(b"Content-Length: %d\r\n\r\n" % len(data) + data)
            self._process.stdin.flush()

    def call(self, method, **params):
        """Calls a method and waits for its answer; an interrupt of the keyboard cancels it."""
        number = next(self._numbers)
        waiting = [threading.Event(), None]
        with self._lock:
            self._waiting[number] = waiting
        self._send({"jsonrpc": "2.0", "id": number, "method": method,
                    "params": {name: value for name, value in params.items() if value is not None}})
        try:
            waiting[0].wait()
        except KeyboardInterrupt:
            self._send({"jsonrpc": "2.0", "method": "cancel", "params": {"id": number}})
            waiting[0].wait()
            raise
        if "error" in waiting[1]:
            raise Error(waiting[1]["error"])
        return waiting[1]["result"]

    def open(self, path=None, text=None, allow_outside=None):
        """A project file, or the text of one."""
        answer = self.call("open", path=os.fspath(path) if path is not None else None, text=text, allowOutside=allow_outside)
        return Project(self, answer)


class Project:
    def __init__(self, service, answer):
        self.service, self.number = service, answer["project"]
        self.title, self.plans, self.scenes = answer["title"], answer["plans"], answer["scenes"]

    def _call(self, method, **params):
        return self.service.call(method, project=self.number, **params)

    def list(self):
        return self._call("list")

    def set(self, what, value):
        """Sets a parameter or a value of a part: project.set("C2.c", "47u")."""
        self._call("set", what=what, value=str(value))

    def check(self):
        return self._call("check")

    def save(self, path):
        self._call("save", path=os.fspath(path))

    def price(self, **settings):
        return self._call("price", **settings)

    def run(self, **settings):
        """Runs it: plan, scene, engine, end, start, step, spans, settle."""
        return Run(self.service, self._call("run", **settings))

    def settle(self, **settings):
        return Run(self.service, self._call("settle", **settings))

    def respond(self, **question):
        """Curves as (name, frequencies, complex values): loop="REG1.y", impedance="out", or tone from "K1.y" to ["out.v"]."""
        if "from_" in question:
            question["from"] = question.pop("from_")
        curves = []
        for curve in self._call("respond", **question):
            real, imaginary = _numbers(curve["real"]), _numbers(curve["imaginary"])
            values = real + 1j * imaginary if numpy is not None else [complex(a, b) for a, b in zip(real, imaginary)]
            curves.append((curve["name"], _numbers(curve["f"]), values))
        return curves

    def study(self, varied, measured, file=None, **settings):
        """Many runs: a table with a column for each thing that varies and each measure."""
        if file is not None:
            return Table(self._call("study", varied=list(varied), measured=list(measured), file=os.fspath(file), **settings))
        with tempfile.TemporaryDirectory() as folder:
            return Table(self._call("study", varied=list(varied), measured=list(measured), file=os.path.join(folder, "a.study"),
                                    **settings))


class Run:
    def __init__(self, service, answer):
        self.service, self.number, self.summary = service, answer["run"], answer

    def measure(self, quantity, **window):
        """min, max, mean, rms and pp, over a window where one is given: start and stop in s."""
        return self.service.call("measure", run=self.number, quantity=quantity, **_window(window))

    def trace(self, quantity, **window):
        """(instants, values) as they are stored; every=1e-6 puts them on a grid."""
        answer = self.service.call("trace", run=self.number, quantity=quantity, **_window(window))
        return _numbers(answer["t"]), _numbers(answer["v"])

    def write(self, quantity, file, **window):
        self.service.call("trace", run=self.number, quantity=quantity, file=os.fspath(file), **_window(window))

    def close(self):
        self.service.call("close", number=self.number)


def _window(window):
    names = {"start": "from", "stop": "to"}
    return {names.get(name, name): value for name, value in window.items()}


class Table(dict):
    """Columns by name: what varies and what is measured. `errors` has a text for each row that failed, `summary` sentences."""

    def __init__(self, answer):
        super().__init__()
        for name, column in answer["varied"].items():
            self[name] = _numbers(column["v"])
        for name, column in answer["measured"].items():
            self[name] = _numbers(column)
        self.texts = {name: column["texts"] for name, column in answer["varied"].items()}
        self.errors, self.summary, self.rows, self.file = answer["errors"], answer["summary"], answer["rows"], answer["file"]
