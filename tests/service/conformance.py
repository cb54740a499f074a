"""An independent client of the service: JSON-RPC 2.0 as its specification has it, and what breaks framing.

    python3 conformance.py HEDGEROW_CLI EXAMPLES
"""

import base64
import json
import struct
import subprocess
import sys
import tempfile
import time
import unittest

CLI, EXAMPLES = sys.argv[1], sys.argv[2]


class Client:
    def __init__(self):
        self.process = subprocess.Popen([CLI, "serve"], stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.PIPE)
        self.last = 0

    def raw(self, data):
        self.process.stdin.write(data)
        self.process.stdin.flush()

    def send(self, message):
        data = message if isinstance(message, bytes) else json.dumps(message).encode()
        self.raw(b"Content-Length: %d\r\n\r\n" % len(data) + data)

    def read(self):
        length = None
        while True:
            line = self.process.stdout.readline()
            if line == b"":
                return None
            if line == b"\r\n":
                break
            name, value = line.split(b":")
            if name.lower() == b"content-length":
                length = int(value)
        return json.loads(self.process.stdout.read(length))

    def call(self, method, params=None, keep_progress=False):
        self.last += 1
        message = {"jsonrpc": "2.0", "id": self.last, "method": method}
        if params is not None:
            message["params"] = params
        self.send(message)
        while True:
            answer = self.read()
            if answer is None or "method" not in answer:
                return answer

    def close(self):
        self.process.stdin.close()
        code = self.process.wait(timeout=30)
        self.process.stdout.close()
        self.process.stderr.close()
        return code


class Service(unittest.TestCase):
    def setUp(self):
        self.client = Client()

    def tearDown(self):
        if self.client.process.poll() is None:
            self.assertIn(self.client.close(), (0, 1, 2))

    def open(self, name="med-aux"):
        answer = self.client.call("open", {"path": f"{EXAMPLES}/{name}.hedge"})
        self.assertIn("result", answer, answer)
        return answer["result"]["project"]

    def test_calls_answer_with_their_identifier(self):
        self.client.send({"jsonrpc": "2.0", "id": "a text", "method": "rpc.discover"})
        answer = self.client.read()
        self.assertEqual(answer["id"], "a text")
        self.assertEqual(answer["jsonrpc"], "2.0")
        names = [m["name"] for m in answer["result"]["methods"]]
        for name in "open list set check price run settle respond measure trace study cancel shutdown".split():
            self.assertIn(name, names)

    def test_what_is_published_is_what_there_is(self):
        published = json.load(open(f"{EXAMPLES}/../docs/service.json", encoding="utf-8"))
        there = self.client.call("rpc.discover")["result"]
        self.assertEqual(published["methods"], there["methods"])

    def test_notifications_are_not_answered(self):
        self.client.send({"jsonrpc": "2.0", "method": "rpc.discover"})
        self.client.send({"jsonrpc": "2.0", "method": "no such method"})
        self.client.send({"jsonrpc": "2.0", "method": "open", "params": {"path": 7}})
        self.assertEqual(self.client.call("list", {"project": 99})["id"], 1)

    def test_errors_have_the_codes_of_the_specification(self):
        self.client.send(b"{not json")
        answer = self.client.read()
        self.assertEqual((answer["error"]["code"], answer["id"]), (-32700, None))
        for bad in ({"id": 1, "method": "list"}, {"jsonrpc": "1.0", "id": 1, "method": "list"}, {"jsonrpc": "2.0", "id": 1},
                    {"jsonrpc": "2.0", "id": 1, "method": 5}, {"jsonrpc": "2.0", "id": 1, "method": "list", "params": "text"},
                    {"jsonrpc": "2.0", "id": [1], "method": "list"}, 7, "text", None):
            self.client.send(bad)
            self.assertEqual(self.client.read()["error"]["code"], -32600, bad)
        self.assertEqual(self.client.call("nothing")["error"]["code"], -32601)
        for params in ({}, {"project": "one"}, {"project": 1, "more": 2}, [1, 2, 3], {"project": 1}):
            self.assertEqual(self.client.call("list", params)["error"]["code"], -32602, params)
        self.assertEqual(self.client.call("open", {"path": "/nowhere.hedge"})["error"]["code"], -32000)

    def test_batches_are_answered_as_a_whole(self):
        self.client.send([])
        self.assertEqual(self.client.read()["error"]["code"], -32600)
        self.client.send([1, 2])
        self.assertEqual([a["error"]["code"] for a in self.client.read()], [-32600, -32600])
        project = self.open()
        self.client.send([{"jsonrpc": "2.0", "id": "x", "method": "check", "params": {"project": project}},
                          {"jsonrpc": "2.0", "method": "rpc.discover"},
                          {"jsonrpc": "2.0", "id": "y", "method": "run", "params": {"project": project, "end": "100u"}},
                          {"jsonrpc": "2.0", "id": "z", "method": "missing"}])
        answers = self.client.read()
        while isinstance(answers, dict):  # progress
            answers = self.client.read()
        self.assertEqual(sorted(a["id"] for a in answers), ["x", "y", "z"])
        self.client.send([{"jsonrpc": "2.0", "method": "rpc.discover"}])
        self.assertEqual(self.client.call("check", [project])["result"], [])

    def test_a_run_is_measured_and_its_points_come_as_float64(self):
        project = self.open()
        self.client.call("set", {"project": project, "what": "Rload", "value": "3"})
        self.client.call("set", {"project": project, "what": "C2.c", "value": "220u"})
        listed = self.client.call("list", {"project": project})["result"]
        self.assertEqual([p["value"] for p in listed["parameters"] if p["name"] == "Rload"], ["3"])
        self.assertEqual([p["values"]["c"] for p in listed["parts"] if p["name"] == "C2"], ["220u"])
        run = self.client.call("run", {"project": project, "end": "1m"})["result"]["run"]
        measured = self.client.call("measure", {"run": run, "quantity": "out.v"})["result"]
        trace = self.client.call("trace", {"run": run, "quantity": "out.v", "from": 2e-4, "to": 8e-4})["result"]
        t = struct.unpack("<%dd" % trace["points"], base64.b64decode(trace["t"]))
        v = struct.unpack("<%dd" % trace["points"], base64.b64decode(trace["v"]))
        self.assertEqual(list(t), sorted(t))
        self.assertAlmostEqual(t[0], 2e-4, 12)
        self.assertAlmostEqual(t[-1], 8e-4, 12)
        self.assertLessEqual(max(v), measured["max"] + 1e-9)
        grid = self.client.call("trace", {"run": run, "quantity": "out.v", "every": 1e-5})["result"]
        self.assertEqual(grid["points"], 101)
        self.assertEqual(self.client.call("trace", {"run": run, "quantity": "nothing.v"})["error"]["code"], -32000)
        self.assertIsNone(self.client.call("close", {"number": run})["result"])
        self.assertEqual(self.client.call("measure", {"run": run, "quantity": "out.v"})["error"]["code"], -32602)

    def test_values_that_are_not_there_are_refused(self):
        project = self.open()
        for what, value in (("C7.c", "1u"), ("C2.zz", "1u"), ("nothing", "1"), ("C2.rung", "two"), ("", "")):
            self.assertIn("error", self.client.call("set", {"project": project, "what": what, "value": value}), what)
        self.client.call("set", {"project": project, "what": "C2.c", "value": "-1u"})
        self.assertTrue(self.client.call("check", {"project": project})["result"])
        self.assertIn("C2", self.client.call("run", {"project": project})["error"]["message"])

    def test_settle_price_respond(self):
        project = self.open("med-aux-loop")
        price = self.client.call("price", {"project": project})["result"]
        self.assertGreater(price["seconds"], 0)
        settled = self.client.call("settle", {"project": self.open()})["result"]
        self.assertIn("period", settled["settled"])
        curves = self.client.call("respond", {"project": project, "impedance": "out", "least": 100, "most": 1e4, "points": 5})["result"]
        self.assertEqual(len(base64.b64decode(curves[0]["f"])), 40)

    def test_a_study_is_a_table(self):
        project = self.open()
        with tempfile.TemporaryDirectory() as folder:
            answer = self.client.call("study", {"project": project, "varied": ["C2.c: 47u, 100u"], "measured": ["mean of out.v", "pp of L1.i"],
                                                "settle": True, "plan": "start-up", "file": f"{folder}/a.study"})
            result = answer["result"]
            self.assertEqual(result["rows"], 2)
            self.assertEqual(result["varied"]["C2.c"]["texts"], ["47u", "100u"])
            self.assertEqual(len(base64.b64decode(result["measured"]["pp of L1.i"])), 16)
            again = self.client.call("study", {"project": project, "varied": ["C2.c: 47u"], "measured": ["mean of out.v"],
                                               "file": f"{folder}/a.study"})
            self.assertIn("error", again, "nothing is overwritten")

    def test_what_computes_is_cancelled_while_other_calls_are_answered(self):
        project = self.open()
        self.client.send({"jsonrpc": "2.0", "id": "long", "method": "run", "params": {"project": project, "end": "100", "engine": "exact"}})
        time.sleep(0.3)
        self.client.send({"jsonrpc": "2.0", "id": "short", "method": "check", "params": {"project": project}})
        seen = []
        while True:
            answer = self.client.read()
            if "method" in answer:
                self.assertEqual(answer["params"]["id"], "long")
                continue
            seen.append(answer)
            if answer["id"] == "short":
                self.client.send({"jsonrpc": "2.0", "id": "stop", "method": "cancel", "params": {"id": "long"}})
            if len(seen) == 3:
                break
        self.assertEqual(seen[0]["id"], "short")
        answers = {a["id"]: a for a in seen}
        self.assertEqual(answers["stop"]["result"], True)
        self.assertEqual(answers["long"]["error"]["code"], -32800)
        self.assertEqual(self.client.call("cancel", {"id": "never"})["result"], False)

    def test_oversized_messages_are_refused_and_the_next_one_is_understood(self):
        size = (64 << 20) + 1
        self.client.raw(b"Content-Length: %d\r\n\r\n" % size)
        block = b" " * (1 << 20)
        for _ in range(size // len(block)):
            self.client.raw(block)
        self.client.raw(b" " * (size % len(block)))
        self.assertEqual(self.client.read()["error"]["code"], -32600)
        self.assertEqual(self.client.call("nothing")["error"]["code"], -32601)

    def test_broken_frames_end_the_service_with_a_word(self):
        for data in (b"hello\r\n\r\n", b"Content-Length: many\r\n\r\n{}", b"Content-Length: -5\r\n\r\n", b"X" * 10000, b"Content-Length: 50\r\n\r\n{}"):
            client = Client()
            client.raw(data)
            client.process.stdin.close()
            answer = client.read()
            self.assertEqual(answer["error"]["code"], -32700, data[:40])
            self.assertNotEqual(client.process.wait(timeout=30), 0)
            client.process.stdout.close()
            client.process.stderr.close()

    def test_other_headers_and_line_ends_are_read(self):
        data = json.dumps({"jsonrpc": "2.0", "id": 1, "method": "nothing"}).encode()
        self.client.raw(b"Content-Type: application/json\r\ncontent-length: %d\n\n" % len(data) + data)
        self.assertEqual(self.client.read()["error"]["code"], -32601)

    def test_it_ends_with_its_input_even_in_the_middle_of_a_run(self):
        project = self.open()
        self.client.send({"jsonrpc": "2.0", "id": 1, "method": "run", "params": {"project": project, "end": "100", "engine": "exact"}})
        time.sleep(0.2)
        self.client.process.stdin.close()
        self.assertEqual(self.client.process.wait(timeout=20), 0)
        self.client.process.stdout.close()
        self.client.process.stderr.close()


if __name__ == "__main__":
    unittest.main(argv=[sys.argv[0]])
