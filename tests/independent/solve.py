"""A second formulation of switched circuits, written apart from the product.

A circuit is a text, one part a line. For every mode (which switches are closed, which diodes conduct) the sparse tableau of
all node voltages and branch currents is solved by dense elimination, and the states move by the matrix exponential. Gates
switch at instants that are known beforehand or found by the circuit's own function; diodes and thyristors where their
current or voltage passes its limit, found by bisection. Integrals are taken by Gauss-Legendre quadrature between events.
"""

import math
import re

import numpy as np
from scipy.linalg import expm
from scipy.optimize import brentq

PREFIX = {"f": 1e-15, "p": 1e-12, "n": 1e-9, "u": 1e-6, "m": 1e-3, "k": 1e3, "M": 1e6, "G": 1e9}
PINS = {
    "resistor": 2, "inductor": 2, "capacitor": 2, "dc-voltage": 2, "sine-voltage": 2, "dc-current": 2, "switch": 3,
    "diode": 2, "thyristor": 3, "transformer": 4, "coupled-inductors-2": 4, "modulator": 3, "reference": 1, "zener": 2,
}
ROUNDED_CURRENT, ROUNDED_VOLTAGE = 1e-9, 1e-7  # A, V
GAUSS = np.polynomial.legendre.leggauss(10)


def number(text):
    match = re.fullmatch(r"([-+0-9.eE]+?)([fpnumkMG]?)", text)
    return float(match.group(1)) * PREFIX.get(match.group(2), 1.0)


class Part:
    def __init__(self, line):
        words = line.split()
        self.name, self.kind = words[0], words[1]
        count = PINS[self.kind]
        self.nets, rest = words[2:2 + count], words[2 + count:]
        self.values = {}
        self.rung = 1
        for key, value in zip(rest[::2], rest[1::2]):
            if key == "rung":
                self.rung = int(value)
            else:
                self.values[key] = value

    def __call__(self, key, default=0.0):
        text = self.values.get(key)
        return default if text is None or text == "none" else number(text)


def carrier_edges(part, end):
    """Instants at which the gate of a modulator with a constant duty turns on and off, dead time included.

    A sawtooth rises from 0 to 1 in each period, a triangle falls from 1 to 0 and rises again; the gate is on while the
    duty is above.
    """
    period, duty, dead, phase = 1 / part("f", 100e3), part("duty", 0.5), part("dead"), part("phase")
    shape = part.values.get("carrier", "saw")
    edges = {"g": [], "n": []}
    k = -2
    while (k + phase) * period < end:
        start = (k + phase) * period
        if shape == "saw":
            on, off = start, start + duty * period
            nxt = start + period
        else:
            on, off = start + period * (1 - duty) / 2, start + period * (1 + duty) / 2
            nxt = on + period
        edges["g"] += [(on + dead, 1), (off, 0)]
        edges["n"] += [(off + dead, 1), (nxt, 0)]
        k += 1
    return edges


class Circuit:
    """@param step  the longest interval between two looks at the guards, s"""

    def __init__(self, text, end, step, gates=None):
        self.end, self.step = end, step
        self.parts = [Part(line) for line in text.strip().splitlines() if line.split()[1] != "reference"]
        self.nets = sorted({n for p in self.parts if p.kind != "modulator" for n in self.power_nets(p)} - {"0", "-"})
        self.branches = [p for p in self.parts if p.kind != "modulator"]
        self.states, self.x0, self.index = [], [], {}
        for p in self.branches:
            if p.kind in ("capacitor", "zener") and p.kind == "capacitor":
                self.add_state(p.name, p("v0"))
            elif p.kind == "inductor":
                self.add_state(p.name, p("i0"))
            elif p.kind == "transformer" and p.rung >= 2:
                self.add_state(p.name, p("i0"))
            elif p.kind == "coupled-inductors-2":
                self.add_state(p.name + ".1", p("i01"))
                self.add_state(p.name + ".2", p("i02"))
        # A constant, and for each sine its two components.
        self.sources = {"one": len(self.states)}
        self.size = len(self.states) + 1
        self.spin = []
        for p in self.branches:
            if p.kind == "sine-voltage":
                self.sources[p.name] = self.size
                self.spin.append((self.size, 2 * math.pi * p("f", 50.0), math.radians(p("phase"))))
                self.size += 2
        self.rows = {}
        n = len(self.nets)
        self.columns = {net: i for i, net in enumerate(self.nets)}
        self.currents = {}
        for p in self.branches:
            for k in range(2 if p.kind in ("transformer", "coupled-inductors-2") else 1):
                self.currents[p.name, k] = n + len(self.currents)
        self.switches = [p for p in self.branches if p.kind in ("switch", "diode", "thyristor", "zener")]
        self.known = []  # (instant, switch, on)
        for p in self.parts:
            if p.kind != "modulator":
                continue
            for pin, edges in carrier_edges(p, end).items():
                net = p.nets[1 if pin == "g" else 2]
                self.known += [(t, s.name, on) for t, on in edges for s in self.switches
                               if s.kind in ("switch", "thyristor") and s.nets[2] == net]
        for name, edges in (gates or {}).items():
            self.known += [(t, name, on) for t, on in edges]
        self.known.sort(key=lambda e: (e[0], e[2]))
        self.modes, self.flights = {}, {}

    def power_nets(self, p):
        return p.nets[:2] if p.kind in ("switch", "thyristor") else p.nets

    def add_state(self, name, value):
        self.index[name] = len(self.states)
        self.states.append(name)
        self.x0.append(value)

    def matrices(self, mode):
        """A and C of a mode: dz/dt = A z, all voltages and currents w = C z."""
        if mode in self.modes:
            return self.modes[mode]
        on = dict(zip([s.name for s in self.switches], mode))
        count = len(self.nets) + len(self.currents)
        t, s = np.zeros((count, count)), np.zeros((count, self.size))
        a = np.zeros((self.size, self.size))
        rates = []  # (state, row over w, row over z)
        row = len(self.nets)

        def voltage(line, plus, minus, factor=1.0):
            for net, sign in ((plus, factor), (minus, -factor)):
                if net != "0":
                    line[self.columns[net]] += sign

        for p in self.branches:
            for k in range(2 if (p.name, 1) in self.currents else 1):
                column = self.currents[p.name, k]
                for net, sign in zip(p.nets[2 * k:2 * k + 2], (1, -1)):
                    if net != "0":
                        t[self.columns[net], column] += sign
            i = self.currents[p.name, 0]
            w, z = np.zeros(count), np.zeros(self.size)
            if p.kind == "resistor":
                voltage(t[row], *p.nets)
                t[row, i] -= p("r", 1e3)
            elif p.kind == "capacitor":
                x = self.index[p.name]
                voltage(t[row], *p.nets)
                if p.rung >= 2:
                    t[row, i] -= p("esr")
                s[row, x] = 1
                w[i] = 1 / p("c", 1e-6)
                rates.append((x, w, z))
            elif p.kind == "inductor":
                x = self.index[p.name]
                t[row, i] = 1
                s[row, x] = 1
                voltage(w, *p.nets, 1 / p("l", 10e-6))
                if p.rung >= 2:
                    w[i] -= p("dcr") / p("l", 10e-6)
                rates.append((x, w, z))
            elif p.kind == "coupled-inductors-2":
                l1, l2 = p("l1", 100e-6), p("l2", 100e-6)
                m = p("k12", 0.98) * math.sqrt(l1 * l2)
                inverse = np.linalg.inv(np.array([[l1, m], [m, l2]]))
                drops = []
                for k in range(2):
                    drop = np.zeros(count)
                    voltage(drop, *p.nets[2 * k:2 * k + 2])
                    if p.rung >= 2:
                        drop[self.currents[p.name, k]] -= p(f"dcr{k + 1}")
                    drops.append(drop)
                for k in range(2):
                    x = self.index[f"{p.name}.{k + 1}"]
                    t[row, self.currents[p.name, k]] = 1
                    s[row, x] = 1
                    rates.append((x, inverse[k, 0] * drops[0] + inverse[k, 1] * drops[1], np.zeros(self.size)))
                    row += 1
                continue
            elif p.kind == "transformer":
                i2, ratio = self.currents[p.name, 1], p("n2", 1.0) / p("n1", 1.0)
                # The voltage of the core, seen from the first winding, over w.
                core = np.zeros(count)
                voltage(core, *p.nets[:2])
                if p.rung >= 2:
                    core[i] -= p("r1")
                voltage(t[row], *p.nets[2:])
                if p.rung >= 2:
                    t[row, i2] -= p("r2")
                t[row] -= ratio * core
                row += 1
                t[row, i], t[row, i2] = 1, ratio
                if p.rung >= 2:
                    x = self.index[p.name]
                    s[row, x] = 1
                    if "rc" in p.values and p.values["rc"] != "none":
                        t[row] -= core / p("rc")
                    rates.append((x, core / p("lm", 10e-3), z))
            elif p.kind == "dc-voltage":
                voltage(t[row], *p.nets)
                if p.rung >= 2:
                    t[row, i] -= p("ri")  # the current goes in at p
                s[row, self.sources["one"]] = p("level", 24.0)
            elif p.kind == "sine-voltage":
                voltage(t[row], *p.nets)
                if p.rung >= 2:
                    t[row, i] -= p("ri")
                s[row, self.sources[p.name]] = p("peak", 1.0)
                s[row, self.sources["one"]] = p("offset")
            elif p.kind == "dc-current":
                t[row, i] = 1
                s[row, self.sources["one"]] = p("level", 1.0)
            elif p.kind == "switch":
                voltage(t[row], *p.nets[:2])
                t[row, i] -= p("ron", 10e-3) if on[p.name] else p("roff", 10e6)
            elif p.kind in ("diode", "thyristor"):
                voltage(t[row], *p.nets[:2])
                if on[p.name]:
                    t[row, i] -= p("ron", 10e-3)
                    knee = p("vf", 0.7 if p.kind == "diode" else 1.0)
                    s[row, self.sources["one"]] = knee - p("ron", 10e-3) * knee / p("roff", 10e6)
                else:
                    t[row, i] -= p("roff", 10e6)
            row += 1
        solved = np.linalg.solve(t, s)
        for x, w, z in rates:
            a[x] = w @ solved + z
        for at, omega, _ in self.spin:
            a[at, at + 1], a[at + 1, at] = omega, -omega
        self.modes[mode] = a, solved
        return self.modes[mode]

    def flight(self, mode, dt):
        key = mode, dt
        if key not in self.flights:
            if len(self.flights) > 4000:
                self.flights.clear()
            self.flights[key] = expm(self.matrices(mode)[0] * dt)
        return self.flights[key]

    def wrong(self, p, conducts, w, gate):
        """How far a part is beyond its limit and what rounding makes of it: above 0 it changes."""
        current = w[self.currents[p.name, 0]]
        across = sum((w[self.columns[n]] if n != "0" else 0) * s for n, s in zip(p.nets[:2], (1, -1)))
        knee = p("vf", 0.7 if p.kind == "diode" else 1.0)
        if conducts:
            return knee / p("roff", 10e6) - current - ROUNDED_CURRENT
        if p.kind == "thyristor" and not gate:
            return -1.0
        return across - knee - ROUNDED_VOLTAGE

    def fits(self, mode, gates, z, ignore=()):
        """The mode that fits a state: what is beyond its limit changes, one after the other."""
        seen = set()
        while mode not in seen:
            seen.add(mode)
            w = self.matrices(mode)[1] @ z
            worst, at = 0.0, None
            for k, p in enumerate(self.switches):
                if p.kind == "switch":
                    continue
                beyond = self.wrong(p, mode[k], w, gates.get(p.name))
                scale = 1 / ROUNDED_CURRENT if mode[k] else 1 / ROUNDED_VOLTAGE
                if beyond * scale > worst:
                    worst, at = beyond * scale, k
            if at is None:
                return mode
            mode = tuple(not m if k == at else m for k, m in enumerate(mode))
        raise RuntimeError("no mode fits")

    def run(self):
        z = np.zeros(self.size)
        z[:len(self.x0)] = self.x0
        z[self.sources["one"]] = 1
        for at, _, phase in self.spin:
            z[at], z[at + 1] = math.sin(phase), math.cos(phase)
        gates = {s.name: False for s in self.switches}
        mode = tuple(False for _ in self.switches)
        coming = list(self.known)
        t, self.pieces = 0.0, []
        while coming and coming[0][0] <= 1e-15:
            _, name, value = coming.pop(0)
            gates[name] = bool(value)
        names = [s.name for s in self.switches]
        mode = tuple(gates[s.name] if s.kind == "switch" else m for s, m in zip(self.switches, mode))
        mode = self.fits(mode, gates, z)
        while t < self.end:
            until = min(self.end, coming[0][0] if coming else self.end)
            if until > t:
                dt = min(self.step, until - t)
                after = self.flight(mode, dt) @ z
                w = self.matrices(mode)[1] @ after
                hit = None
                for k, p in enumerate(self.switches):
                    if p.kind == "switch":
                        continue
                    beyond = self.wrong(p, mode[k], w, gates[p.name])
                    if beyond <= 0:
                        continue

                    def guard(tau, k=k, p=p):
                        return self.wrong(p, mode[k], self.matrices(mode)[1] @ (expm(self.matrices(mode)[0] * tau) @ z),
                                          gates[p.name])

                    first = guard(0.0)
                    tau = 0.0 if first >= 0 else brentq(guard, 0.0, dt, xtol=1e-18, rtol=1e-14)
                    if hit is None or tau < hit[0]:
                        hit = tau, k
                taken = dt if hit is None else hit[0]
                if taken > 0:
                    self.pieces.append((t, t + taken, mode, z))
                    z = after if hit is None else expm(self.matrices(mode)[0] * taken) @ z
                    t = until if hit is None and dt == until - t else t + taken
                if hit is not None:
                    mode = tuple(not m if k == hit[1] else m for k, m in enumerate(mode))
                    mode = self.fits(mode, gates, z)
                    continue
            while coming and coming[0][0] <= t + 1e-15:
                _, name, value = coming.pop(0)
                gates[name] = bool(value)
                k = names.index(name)
                if self.switches[k].kind == "switch":
                    mode = tuple(bool(value) if j == k else m for j, m in enumerate(mode))
            mode = self.fits(mode, gates, z)
        return self

    def along(self, mode, z, taus):
        """States at several instants after one: the first ones of a whole step are shared by all steps of a mode."""
        shape = tuple(np.round(taus / self.step, 9))
        key = mode, shape
        if key not in self.rows:
            if len(self.rows) > 3000:
                self.rows.clear()
            self.rows[key] = np.stack([expm(self.matrices(mode)[0] * tau) for tau in taus])
        return (self.rows[key] @ z).T

    def row(self, quantity):
        """The row over w of a quantity, and the state whose value is added."""
        name, what = quantity.rsplit(".", 1)
        line = np.zeros(len(self.nets) + len(self.currents))
        if name in self.columns:
            line[self.columns[name]] = 1
            return line
        part = next(p for p in self.branches if p.name == name)
        if what == "v":
            for net, sign in zip(part.nets[:2], (1, -1)):
                if net != "0":
                    line[self.columns[net]] += sign
            return line
        line[self.currents[name, 1 if what == "i2" else 0]] = 1
        return line

    def values(self, quantity, mode, zs):
        if quantity.endswith(".p"):
            name = quantity[:-2]
            return self.values(name + ".v", mode, zs) * self.values(name + ".i", mode, zs)
        return (self.row(quantity) @ self.matrices(mode)[1]) @ zs

    def nodes(self, quantity, start, stop):
        """Instants, weights and values for integrals between two instants."""
        times, weights, values = [], [], []
        for t0, t1, mode, z in self.pieces:
            a, b = max(t0, start), min(t1, stop)
            if b <= a:
                continue
            at = (a + b) / 2 + (b - a) / 2 * GAUSS[0]
            zs = self.along(mode, z, at - t0)
            times.append(at)
            weights.append((b - a) / 2 * GAUSS[1])
            values.append(self.values(quantity, mode, zs))
        return np.concatenate(times), np.concatenate(weights), np.concatenate(values)

    def at(self, quantity, t):
        for t0, t1, mode, z in self.pieces:
            if t0 <= t < t1 or (t == t1 == self.end):
                return float(self.values(quantity, mode, (expm(self.matrices(mode)[0] * (t - t0)) @ z)[:, None])[0])
        raise ValueError(t)

    def measure(self, what, quantity, start, stop, base=None, order=1):
        times, weights, values = self.nodes(quantity, start, stop)
        if what == "mean":
            return float(weights @ values / (stop - start))
        if what == "rms":
            return float(math.sqrt(weights @ values**2 / (stop - start)))
        if what == "harmonic":
            return float(2 / (stop - start) * abs(weights @ (values * np.exp(-2j * math.pi * base * order * times))))
        # Extremes: the ends of pieces are among them, what lies between is refined by a parabola.
        best = {"max": -math.inf, "min": math.inf}
        for t0, t1, mode, z in self.pieces:
            a, b = max(t0, start), min(t1, stop)
            if b <= a:
                continue
            n = 9
            at = np.linspace(a, b, n)
            zs = self.along(mode, z, at - t0)
            v = self.values(quantity, mode, zs)
            for sign, key in ((1, "max"), (-1, "min")):
                k = int(np.argmax(sign * v))
                top = v[k]
                if 0 < k < n - 1:
                    left, mid, right = v[k - 1], v[k], v[k + 1]
                    curve = left - 2 * mid + right
                    if curve != 0:
                        top = mid - (right - left)**2 / (8 * curve)
                if sign * top > sign * best[key]:
                    best[key] = float(top)
        return best["max"] - best["min"] if what == "pp" else best[what]
