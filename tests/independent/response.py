"""Small-signal responses by a second formulation: a tone of 1 mV (or 1 mA) is added to the circuit, it runs until it has settled, and the
tone is read off the last whole periods. Writes response.json beside itself: python3 response.py.
"""

import json
import math
import os
import sys

import numpy as np

import solve

HERE = os.path.dirname(os.path.abspath(__file__))
with open(os.path.join(HERE, "circuits.json")) as known:
    TEXTS = {one["name"]: one["text"] for one in json.load(known)}


def known(name):
    """One of circuits.py, with the place where the tone comes in."""
    return "\n" + TEXTS[name].replace("V1 dc-voltage in 0", "V1 dc-voltage {in} 0", 1) + "\n"


CASES = [
    dict(name="step-down, continuous, with losses", period=1 / 120e3, text=known("step-down, continuous, with losses"), settle=8e-3,
         periods=[48, 12, 4], to=["out.v", "L1.i"]),
    dict(name="inverting", period=1 / 100e3, text=known("inverting"), settle=20e-3, periods=[100, 25, 5], to=["out.v", "L1.i"]),
    dict(name="two switches and a filter", period=1 / 80e3, text="""
V1 dc-voltage {in} 0 rung 2 level 60 ri 20m
M1 modulator - g n f 80k duty 0.3
S1 switch in sw g rung 2 ron 15m roff 1M
S2 switch sw 0 n rung 2 ron 15m roff 1M
L1 inductor sw mid rung 2 l 22u dcr 10m
C1 capacitor mid 0 rung 2 c 10u esr 4m v0 18
L2 inductor mid out rung 2 l 4.7u dcr 8m
C2 capacitor out 0 rung 2 c 22u esr 6m v0 18
R1 resistor out 0 r 2
""", settle=12e-3, periods=[40, 10, 4], to=["out.v", "L2.i"]),
]
TONE = 1e-3


def amplitude(circuit, quantity, f, start, stop):
    times, weights, values = circuit.nodes(quantity, start, stop)
    return complex(2 / (stop - start) * (weights @ (values * np.exp(-2j * math.pi * f * times))))


def main():
    told = []
    for case in CASES:
        responses = []
        for n in case["periods"]:
            f = 1 / (n * case["period"])
            # Whole periods of the tone, behind what has died out.
            end = math.ceil(case["settle"] * f + 2) / f
            text = case["text"].replace("{in}", "vx").replace("\nM1", f"\nVT sine-voltage in vx peak {TONE} f {f!r}\nM1", 1)
            circuit = solve.Circuit(text, end + 1e-9, case["period"] / 40).run()
            for quantity in case["to"]:
                h = amplitude(circuit, quantity, f, end - 2 / f, end) / (-1j * TONE)
                responses.append(dict(to=quantity, f=f, re=h.real, im=h.imag))
                print(case["name"], quantity, f, abs(h), file=sys.stderr)
        told.append(dict(name=case["name"], text=case["text"].replace("{in}", "in").strip(), **{"from": "V1"}, responses=responses))
    with open(os.path.join(HERE, "response.json"), "w") as file:
        json.dump(told, file, indent=1)
        file.write("\n")


main()
