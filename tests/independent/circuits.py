"""Circuits for solve.py, and those whose raw equations are written out; writes circuits.json beside itself.

Run it with Python 3, numpy and scipy: python3 circuits.py. Each measure is (what, quantity, from, to[, base, order]).
"""

import json
import math
import os
import sys

import numpy as np
from scipy.integrate import solve_ivp
from scipy.optimize import brentq

import solve

PARTS_OF_SIGNALS = ("modulator", "signal-sine", "constant")
solve.PINS.update({"signal-sine": 1, "constant": 1})

CASES = []


def case(name, text, end, step, measures, settled=None, gates=None, at=()):
    """@param settled  the period: the last one of the run is periodic to the accuracy of the comparison"""
    CASES.append(dict(name=name, text=text, end=end, step=step, measures=list(measures), settled=settled, gates=gates,
                      at=list(at)))


def window(start, stop, *what):
    return [(m, q, start, stop) for m, q in (one.split(" of ") for one in what)]


# ---- isolated from nothing: choppers

case("step-down, continuous, with losses", """
V1 dc-voltage in 0 rung 2 level 48 ri 30m
C1 capacitor in 0 rung 2 c 10u esr 5m v0 48
M1 modulator - g - f 120k duty 0.42
S1 switch in sw g rung 2 ron 25m roff 1M
D1 diode 0 sw rung 2 vf 0.65 ron 18m roff 1M
L1 inductor sw out rung 2 l 33u dcr 20m
C2 capacitor out 0 rung 2 c 47u esr 8m
R1 resistor out 0 r 3.3
""", 1e-3, 2e-7, window(0, 1e-3, "mean of out.v", "max of L1.i", "rms of C1.i") +
     window(0.9e-3, 1e-3, "pp of L1.i", "mean of S1.p", "mean of D1.p", "rms of C2.i", "pp of out.v") +
     [("harmonic", "sw.v", 0.9e-3, 1e-3, 120e3, 3), ("harmonic", "L1.i", 0.9e-3, 1e-3, 120e3, 1)],
     at=[("L1.i", 123.4e-6), ("out.v", 512.3e-6), ("C1.v", 77.7e-6)])

case("step-down, discontinuous", """
V1 dc-voltage in 0 level 24
M1 modulator - g - f 50k duty 0.3
S1 switch in sw g rung 2 ron 50m roff 300k
D1 diode 0 sw rung 2 vf 0.5 ron 30m roff 300k
L1 inductor sw out l 15u
C2 capacitor out 0 c 22u
R1 resistor out 0 r 47
""", 4e-3, 1e-7, window(3e-3, 4e-3, "mean of out.v", "pp of out.v", "max of L1.i", "rms of L1.i", "mean of R1.p"),
     at=[("out.v", 1.2345e-3)])

case("step-up, light and lossy", """
V1 dc-voltage in 0 rung 2 level 12 ri 100m
M1 modulator - g - f 80k duty 0.55
L1 inductor in sw rung 2 l 10u dcr 60m
S1 switch sw 0 g rung 2 ron 40m roff 500k
D1 diode sw out rung 2 vf 0.6 ron 50m roff 500k
C2 capacitor out 0 rung 2 c 4.7u esr 30m v0 12
R1 resistor out 0 r 40
""", 4e-3, 1e-7, window(3.5e-3, 4e-3, "mean of out.v", "pp of out.v", "max of L1.i", "rms of D1.i", "mean of V1.p"),
     settled=12.5e-6)

case("inverting", """
V1 dc-voltage in 0 level 36
M1 modulator - g - f 100k duty 0.45
S1 switch in sw g rung 2 ron 20m roff 2M
D1 diode out sw rung 2 vf 0.7 ron 20m roff 2M
L1 inductor sw 0 rung 2 l 47u dcr 30m
C2 capacitor out 0 rung 2 c 100u esr 12m
R1 resistor out 0 r 6
""", 2e-3, 2e-7, window(1.9e-3, 2e-3, "mean of out.v", "pp of L1.i", "mean of S1.p") + window(0, 2e-3, "min of out.v"),
     at=[("out.v", 333.3e-6), ("L1.i", 1.111e-3)])

case("two chokes and a coupling capacitor, upright", """
V1 dc-voltage in 0 level 18
M1 modulator - g - f 150k duty 0.5
L1 inductor in a rung 2 l 47u dcr 35m
S1 switch a 0 g rung 2 ron 15m roff 1M
C1 capacitor a b rung 2 c 4.7u esr 4m v0 18
L2 inductor b 0 rung 2 l 47u dcr 35m
D1 diode b out rung 2 vf 0.6 ron 20m roff 1M
C2 capacitor out 0 rung 2 c 68u esr 9m
R1 resistor out 0 r 9
""", 2e-3, 1e-7, window(1.9e-3, 2e-3, "mean of out.v", "pp of L1.i", "pp of L2.i", "rms of C1.i") +
     window(0, 2e-3, "max of out.v"), at=[("C1.v", 210e-6), ("L2.i", 1.5e-3)])

case("two chokes and a coupling capacitor, inverting", """
V1 dc-voltage in 0 level 18
M1 modulator - g - f 150k duty 0.5
L1 inductor in a rung 2 l 68u dcr 35m
S1 switch a 0 g rung 2 ron 15m roff 1M
C1 capacitor a b rung 2 c 4.7u esr 4m v0 18
D1 diode b 0 rung 2 vf 0.6 ron 20m roff 1M
L2 inductor b out rung 2 l 68u dcr 35m
C2 capacitor out 0 rung 2 c 22u esr 9m
R1 resistor out 0 r 9
""", 1.5e-3, 1e-7, window(1.4e-3, 1.5e-3, "mean of out.v", "pp of L1.i", "pp of L2.i", "pp of out.v"),
     at=[("out.v", 250e-6)])

case("upright from the other side", """
V1 dc-voltage in 0 level 30
M1 modulator - g - f 90k duty 0.38
S1 switch in a g rung 2 ron 30m roff 1M
L1 inductor a 0 rung 2 l 82u dcr 40m
C1 capacitor a b rung 2 c 10u esr 5m
D1 diode 0 b rung 2 vf 0.5 ron 25m roff 1M
L2 inductor b out rung 2 l 82u dcr 40m
C2 capacitor out 0 rung 2 c 47u esr 15m
R1 resistor out 0 r 5
""", 2e-3, 1e-7, window(1.8e-3, 2e-3, "mean of out.v", "pp of L1.i", "rms of C1.i"), at=[("C1.v", 400e-6)])

case("synchronous, with dead time", """
V1 dc-voltage in 0 rung 2 level 60 ri 15m
C1 capacitor in 0 rung 2 c 22u esr 3m v0 60
M1 modulator - g n f 200k duty 0.3 dead 120n carrier triangle
S1 switch in sw g rung 2 ron 8m roff 1M
D1 diode sw in rung 2 vf 0.8 ron 10m roff 1M
S2 switch sw 0 n rung 2 ron 8m roff 1M
D2 diode 0 sw rung 2 vf 0.8 ron 10m roff 1M
L1 inductor sw out rung 2 l 12u dcr 6m
C2 capacitor out 0 rung 2 c 100u esr 3m
R1 resistor out 0 r 1.5
""", 0.6e-3, 5e-8, window(0.5e-3, 0.6e-3, "mean of out.v", "pp of L1.i", "mean of D2.p", "mean of S2.p", "rms of C1.i") +
     [("harmonic", "sw.v", 0.5e-3, 0.6e-3, 200e3, 2)], at=[("L1.i", 111.1e-6)])

case("interleaved, coupled chokes", """
V1 dc-voltage in 0 level 48
M1 modulator - g1 n1 f 100k duty 0.35
M2 modulator - g2 n2 f 100k duty 0.35 phase 0.5
S1 switch in a g1 rung 2 ron 10m roff 1M
S2 switch a 0 n1 rung 2 ron 10m roff 1M
S3 switch in b g2 rung 2 ron 10m roff 1M
S4 switch b 0 n2 rung 2 ron 10m roff 1M
L1 coupled-inductors-2 a out b out rung 2 l1 40u l2 40u k12 -0.6 dcr1 12m dcr2 14m
C2 capacitor out 0 rung 2 c 47u esr 4m
R1 resistor out 0 r 1.2
""", 0.8e-3, 1e-7, window(0.7e-3, 0.8e-3, "mean of out.v", "pp of out.v", "rms of L1.i1", "pp of L1.i2"),
     at=[("out.v", 95.5e-6)])

# ---- isolated

case("flyback, continuous", """
V1 dc-voltage in 0 rung 2 level 72 ri 40m
M1 modulator - g - f 70k duty 0.4
TR1 transformer in d s 0 rung 2 n1 4 n2 1 lm 180u r1 90m r2 8m rc 40k
S1 switch d 0 g rung 2 ron 60m roff 2M
D1 diode 0 s2 rung 2 vf 0.5 ron 10m roff 2M
R9 resistor s s2 r 1m
C2 capacitor s2 k rung 2 c 220u esr 10m
R8 resistor k 0 r 1m
R1 resistor s2 0 r 2
""".replace("TR1 transformer in d s 0", "TR1 transformer in d 0 s").replace("D1 diode 0 s2", "D1 diode s3 s2")
     .replace("R9 resistor s s2 r 1m", "R9 resistor s s3 r 1m"), 3e-3, 2e-7,
     window(2.8e-3, 3e-3, "mean of s2.v", "max of d.v", "rms of TR1.i1", "mean of S1.p", "mean of D1.i"),
     at=[("s2.v", 444e-6)])

case("flyback, discontinuous, on a floating secondary", """
V1 dc-voltage in 0 level 40
M1 modulator - g - f 60k duty 0.25
TR1 transformer in d q s rung 2 n1 3 n2 1 lm 60u r1 50m r2 10m
S1 switch d 0 g rung 2 ron 60m roff 1M
D1 diode s p rung 2 vf 0.5 ron 20m roff 1M
C2 capacitor p q rung 2 c 100u esr 10m
R1 resistor p q r 25
R2 resistor q 0 r 10k
""", 5e-3, 1e-7, window(4.5e-3, 5e-3, "mean of R1.v", "pp of R1.v", "max of TR1.i1", "rms of D1.i"))

case("bridge, transformer, bridge of diodes, choke", """
V1 dc-voltage in 0 level 200
M1 modulator - g1 - f 50k duty 0.45
M2 modulator - g2 - f 50k duty 0.45 phase 0.5
S1 switch in a g1 rung 2 ron 50m roff 1M
D1 diode a in rung 2 vf 0.8 ron 20m roff 1M
S2 switch a 0 g2 rung 2 ron 50m roff 1M
D2 diode 0 a rung 2 vf 0.8 ron 20m roff 1M
S3 switch in b g2 rung 2 ron 50m roff 1M
D3 diode b in rung 2 vf 0.8 ron 20m roff 1M
S4 switch b 0 g1 rung 2 ron 50m roff 1M
D4 diode 0 b rung 2 vf 0.8 ron 20m roff 1M
Ls inductor a c rung 2 l 2u dcr 5m
TR1 transformer c b e f rung 2 n1 5 n2 1 lm 2m r1 20m r2 2m
D5 diode e p rung 2 vf 0.6 ron 8m roff 100k
D6 diode 0 e rung 2 vf 0.6 ron 8m roff 100k
D7 diode f p rung 2 vf 0.6 ron 8m roff 100k
D8 diode 0 f rung 2 vf 0.6 ron 8m roff 100k
L1 inductor p out rung 2 l 10u dcr 4m
C2 capacitor out 0 rung 2 c 100u esr 4m
R1 resistor out 0 r 1.5
""", 0.6e-3, 5e-8, window(0.5e-3, 0.6e-3, "mean of out.v", "pp of L1.i", "rms of Ls.i", "mean of D5.i"),
     at=[("out.v", 200e-6)])

# ---- resonant

case("series resonance into a bridge of diodes, below resonance", """
V1 dc-voltage in 0 level 100
M1 modulator - g n f 85k duty 0.5 dead 200n
S1 switch in a g rung 2 ron 30m roff 1M
D1 diode a in rung 2 vf 0.8 ron 20m roff 1M
S2 switch a 0 n rung 2 ron 30m roff 1M
D2 diode 0 a rung 2 vf 0.8 ron 20m roff 1M
L1 inductor a b rung 2 l 20u dcr 50m
C1 capacitor b c rung 2 c 150n esr 10m
D5 diode c p rung 2 vf 0.7 ron 20m roff 200k
D6 diode 0 c rung 2 vf 0.7 ron 20m roff 200k
D7 diode m p rung 2 vf 0.7 ron 20m roff 200k
D8 diode 0 m rung 2 vf 0.7 ron 20m roff 200k
R9 resistor m h r 10m
C3 capacitor in h c 10u v0 50
C4 capacitor h 0 rung 2 c 10u esr 1m v0 50
C2 capacitor p 0 rung 2 c 22u esr 10m
R1 resistor p 0 r 12
""", 1e-3, 5e-8, window(0.9e-3, 1e-3, "mean of p.v", "max of L1.i", "rms of L1.i", "max of C1.v"), at=[("C1.v", 123e-6)])

case("two inductances and a capacitance", """
V1 dc-voltage in 0 level 380
M1 modulator - g n f 95k duty 0.5 dead 300n
S1 switch in a g rung 2 ron 60m roff 1M
D1 diode a in rung 2 vf 0.9 ron 30m roff 1M
S2 switch a 0 n rung 2 ron 60m roff 1M
D2 diode 0 a rung 2 vf 0.9 ron 30m roff 1M
Lr inductor a b rung 2 l 55u dcr 80m
Cr capacitor b c rung 2 c 47n esr 20m
TR1 transformer c 0 e f rung 2 n1 8 n2 1 lm 280u r1 50m r2 3m
D5 diode e p rung 2 vf 0.5 ron 6m roff 50k
D6 diode 0 e rung 2 vf 0.5 ron 6m roff 50k
D7 diode f p rung 2 vf 0.5 ron 6m roff 50k
D8 diode 0 f rung 2 vf 0.5 ron 6m roff 50k
C2 capacitor p 0 rung 2 c 220u esr 3m v0 20
R1 resistor p 0 r 1
""", 0.8e-3, 5e-8, window(0.7e-3, 0.8e-3, "mean of p.v", "max of Lr.i", "rms of TR1.i1", "pp of Cr.v"), at=[("Lr.i", 222e-6)])

case("one switch, tuned load", """
V1 dc-voltage in 0 level 24
M1 modulator - g - f 1M duty 0.5
L0 inductor in d rung 2 l 50u dcr 50m
S1 switch d 0 g rung 2 ron 100m roff 500k
C0 capacitor d 0 rung 2 c 2n esr 20m
L1 inductor d x rung 2 l 9u dcr 100m
C1 capacitor x out rung 2 c 3.3n esr 30m
R1 resistor out 0 r 8
""", 60e-6, 5e-9, window(50e-6, 60e-6, "max of d.v", "rms of R1.i", "mean of V1.p", "mean of R1.p") +
     [("harmonic", "out.v", 50e-6, 60e-6, 1e6, 2)], at=[("d.v", 33.3e-6)])

case("a current source, commutated into a parallel tank", """
I1 dc-current 0 in level 5
M1 modulator - g1 g2 f 62k duty 0.5
S1 switch in a g1 rung 2 ron 40m roff 200k
S2 switch in b g2 rung 2 ron 40m roff 200k
S3 switch a 0 g2 rung 2 ron 40m roff 200k
S4 switch b 0 g1 rung 2 ron 40m roff 200k
C1 capacitor a b rung 2 c 330n esr 5m
L1 inductor a b rung 2 l 20u dcr 30m
R1 resistor a b r 30
R2 resistor in 0 r 2k
""", 0.5e-3, 5e-8, window(0.4e-3, 0.5e-3, "max of R1.v", "rms of L1.i", "mean of R1.p") +
     [("harmonic", "R1.v", 0.4e-3 + 0.0, 0.4e-3 + 6 / 62e3, 62e3, 3)], at=[("R1.v", 77e-6)])

# ---- bridges and levels

SINE_CARRIER, SINE_F, SINE_DEPTH = 2.1e3, 50.0, 0.8


def natural(inverse, end):
    """Instants at which 0.5 + 0.5 m sin meets the triangle."""
    edges, period = [], 1 / SINE_CARRIER

    def reference(t):
        return 0.5 + (-0.5 if inverse else 0.5) * SINE_DEPTH * math.sin(2 * math.pi * SINE_F * t)

    half = period / 2
    for k in range(int(end / half) + 1):
        a, b = k * half, (k + 1) * half
        up = k % 2 == 1

        def apart(t):
            share = (t - a) / half
            return reference(t) - (share if up else 1 - share)

        if apart(a) * apart(b) < 0:
            edges.append((brentq(apart, a, b, xtol=1e-16, rtol=1e-15), 0 if up else 1))
    return edges


def complement(edges):
    return [(t, 1 - on) for t, on in edges]


PWM_A, PWM_B = natural(False, 60e-3), natural(True, 60e-3)
case("bridge by a sine, natural sampling", f"""
V1 dc-voltage in 0 level 400
SA signal-sine da peak {SINE_DEPTH / 2} offset 0.5 f 50
SB signal-sine db peak {SINE_DEPTH / 2} offset 0.5 f 50 phase 180
M1 modulator da g1 n1 f {SINE_CARRIER} carrier triangle
M2 modulator db g2 n2 f {SINE_CARRIER} carrier triangle
S1 switch in a g1 rung 2 ron 20m roff 1M
S2 switch a 0 n1 rung 2 ron 20m roff 1M
S3 switch in b g2 rung 2 ron 20m roff 1M
S4 switch b 0 n2 rung 2 ron 20m roff 1M
L1 inductor a x rung 2 l 10m dcr 100m
R1 resistor x b r 12
""", 60e-3, 2e-5, window(40e-3, 60e-3, "rms of L1.i", "mean of R1.p", "mean of V1.p") +
     [("harmonic", "R1.v", 40e-3, 60e-3, 50, k) for k in (1, 3, 83, 85)],
     gates={"S1": [(0, 0)] + PWM_A, "S2": [(0, 1)] + complement(PWM_A), "S3": [(0, 0)] + PWM_B,
            "S4": [(0, 1)] + complement(PWM_B)}, at=[("L1.i", 27.7e-3)])

case("three levels with a flying capacitor", """
V1 dc-voltage in 0 level 120
M1 modulator - g1 n1 f 60k duty 0.3
M2 modulator - g2 n2 f 60k duty 0.3 phase 0.5
S1 switch in p g1 rung 2 ron 15m roff 1M
S2 switch p sw g2 rung 2 ron 15m roff 1M
S3 switch sw q n2 rung 2 ron 15m roff 1M
S4 switch q 0 n1 rung 2 ron 15m roff 1M
Cf capacitor p q rung 2 c 4.7u esr 5m v0 50
L1 inductor sw out rung 2 l 22u dcr 10m
C2 capacitor out 0 rung 2 c 22u esr 5m
R1 resistor out 0 r 4
""", 1.5e-3, 1e-7, window(1.4e-3, 1.5e-3, "mean of out.v", "mean of Cf.v", "pp of L1.i") + window(0, 1.5e-3, "max of Cf.v"),
     at=[("Cf.v", 700e-6)])

case("three levels, clamped to the middle", """
V1 dc-voltage in h level 150
V2 dc-voltage h 0 level 150
M1 modulator - g1 n1 f 20k duty 0.35
M2 modulator - g2 n2 f 20k duty 0.8
S1 switch in p g1 rung 2 ron 20m roff 1M
S2 switch p sw g2 rung 2 ron 20m roff 1M
S3 switch sw q n1 rung 2 ron 20m roff 1M
S4 switch q 0 n2 rung 2 ron 20m roff 1M
D1 diode p in rung 2 vf 0.8 ron 20m roff 1M
D2 diode sw p rung 2 vf 0.8 ron 20m roff 1M
D3 diode q sw rung 2 vf 0.8 ron 20m roff 1M
D4 diode 0 q rung 2 vf 0.8 ron 20m roff 1M
D5 diode h p rung 2 vf 0.7 ron 15m roff 1M
D6 diode q h rung 2 vf 0.7 ron 15m roff 1M
L1 inductor sw x rung 2 l 1m dcr 50m
R1 resistor x h r 5
""", 2e-3, 2e-7, window(1e-3, 2e-3, "mean of L1.i", "pp of L1.i", "mean of D5.p") +
     [("harmonic", "sw.v", 1e-3, 2e-3, 20e3, 1)], at=[("L1.i", 555e-6)])

# ---- phase-controlled and uncontrolled rectifiers

case("a thyristor, a choke and a resistance", """
V1 sine-voltage in 0 peak 325 f 50
M1 modulator - g - f 50 duty 0.02 phase 0.2
T1 thyristor in a g rung 2 vf 1.2 ron 15m roff 1M
L1 inductor a b rung 2 l 15m dcr 100m
R1 resistor b 0 r 10
""", 60e-3, 2e-5, window(40e-3, 60e-3, "mean of L1.i", "rms of L1.i", "max of L1.i", "mean of T1.p") +
     [("harmonic", "L1.i", 40e-3, 60e-3, 50, 2)], at=[("L1.i", 27e-3)])

case("two thyristors and two diodes on a choke", """
V1 sine-voltage a b peak 325 f 50
R9 resistor b 0 r 100k
M1 modulator - g1 - f 50 duty 0.05 phase 0.15
M2 modulator - g2 - f 50 duty 0.05 phase 0.65
T1 thyristor a p g1 rung 2 vf 1.2 ron 15m roff 1M
T2 thyristor b p g2 rung 2 vf 1.2 ron 15m roff 1M
D1 diode n a rung 2 vf 0.9 ron 12m roff 1M
D2 diode n b rung 2 vf 0.9 ron 12m roff 1M
L1 inductor p x rung 2 l 40m dcr 200m
R1 resistor x n r 8
""", 80e-3, 2e-5, window(60e-3, 80e-3, "mean of L1.i", "rms of V1.i", "mean of D1.i", "pp of L1.i") +
     [("harmonic", "V1.i", 60e-3, 80e-3, 50, k) for k in (1, 3, 5)], at=[("L1.i", 33e-3)])

case("bridge of diodes and a reservoir", """
V1 sine-voltage a b peak 325 f 50
Ls inductor a c rung 2 l 1m dcr 300m
D1 diode c p rung 2 vf 0.9 ron 30m roff 1M
D2 diode n c rung 2 vf 0.9 ron 30m roff 1M
D3 diode b p rung 2 vf 0.9 ron 30m roff 1M
D4 diode n b rung 2 vf 0.9 ron 30m roff 1M
C1 capacitor p n rung 2 c 470u esr 50m v0 300
R1 resistor p n r 100
R9 resistor n 0 r 1M
""", 60e-3, 1e-5, window(40e-3, 60e-3, "mean of R1.v", "pp of R1.v", "max of Ls.i", "rms of Ls.i", "mean of V1.p") +
     [("harmonic", "Ls.i", 40e-3, 60e-3, 50, k) for k in (1, 3, 5, 7, 9)])

case("six diodes, a choke, no earth", """
V1 sine-voltage a s peak 320 f 50
V2 sine-voltage b s peak 320 f 50 phase -120
V3 sine-voltage c s peak 320 f 50 phase 120
R9 resistor s 0 r 100k
D1 diode a p rung 2 vf 0.9 ron 20m roff 500k
D3 diode b p rung 2 vf 0.9 ron 20m roff 500k
D5 diode c p rung 2 vf 0.9 ron 20m roff 500k
D4 diode n a rung 2 vf 0.9 ron 20m roff 500k
D6 diode n b rung 2 vf 0.9 ron 20m roff 500k
D2 diode n c rung 2 vf 0.9 ron 20m roff 500k
L1 inductor p x rung 2 l 8m dcr 100m
R1 resistor x n r 15
""", 60e-3, 1e-5, window(40e-3, 60e-3, "mean of L1.i", "pp of L1.i", "rms of V1.i", "mean of D1.p") +
     [("harmonic", "V1.i", 40e-3, 60e-3, 50, k) for k in (1, 5, 7, 11)])

case("four stages of capacitors and diodes", """
V1 sine-voltage in 0 rung 2 peak 100 f 1k ri 1
C1 capacitor in a rung 2 c 1u esr 100m
D1 diode 0 a rung 2 vf 0.7 ron 200m roff 1M
D2 diode a b rung 2 vf 0.7 ron 200m roff 1M
C2 capacitor b 0 rung 2 c 1u esr 100m
C3 capacitor a c rung 2 c 1u esr 100m
D3 diode b c rung 2 vf 0.7 ron 200m roff 1M
D4 diode c d rung 2 vf 0.7 ron 200m roff 1M
C4 capacitor d b rung 2 c 1u esr 100m
R1 resistor d 0 r 200k
""", 20e-3, 1e-7, window(19e-3, 20e-3, "mean of d.v", "pp of d.v", "max of D1.i") + window(0, 20e-3, "max of d.v"),
     at=[("d.v", 3.21e-3), ("a.v", 7.77e-3)])

# ---- without loss, with much, badly scaled

case("four resonances without loss", """
V1 dc-voltage in 0 level 10
M1 modulator - g - f 10k duty 0.5
S1 switch in x g rung 2 ron 1 roff 1M
R9 resistor x 0 r 50
L1 inductor x a l 1m
C1 capacitor a 0 c 100n
L2 inductor a b l 330u
C2 capacitor b 0 c 22n
L3 inductor b c l 47u
C3 capacitor c 0 c 2.2n
L4 inductor c d l 10u
C4 capacitor d 0 c 470p
""", 2e-3, 2e-7, window(1e-3, 2e-3, "rms of a.v", "rms of b.v", "rms of d.v", "max of d.v"), at=[("d.v", 1.9999e-3), ("L1.i", 1.234e-3)])

case("from a picofarad to a farad", """
V1 dc-voltage in 0 level 5
M1 modulator - g - f 1k duty 0.3
S1 switch in a g rung 2 ron 1m roff 10M
L1 inductor a b l 1n
R1 resistor b c r 3
C1 capacitor c 0 c 1
R2 resistor b d r 1M
C2 capacitor d 0 c 1p
R3 resistor a 0 r 100k
""", 10e-3, 5e-7, window(5e-3, 10e-3, "mean of d.v", "mean of L1.i") + window(0, 10e-3, "max of c.v", "rms of d.v"))

case("mostly heat", """
V1 dc-voltage in 0 rung 2 level 100 ri 8
M1 modulator - g - f 25k duty 0.6
S1 switch in sw g rung 2 ron 4 roff 1k
D1 diode 0 sw rung 2 vf 2 ron 5 roff 1k
L1 inductor sw out rung 2 l 100u dcr 6
C2 capacitor out 0 rung 2 c 4.7u esr 3
R1 resistor out 0 r 10
""", 1e-3, 2e-7, window(0.8e-3, 1e-3, "mean of out.v", "mean of S1.p", "mean of D1.p", "mean of V1.p", "pp of out.v"),
     settled=40e-6, at=[("L1.i", 99e-6)])


# ---- raw equations written out, and closed forms

def written(name, text, end, values, tolerance=1e-6, settled=None, fixed=True):
    CASES.append(dict(name=name, text=text, end=end, measures=[], values=values, tolerance=tolerance, settled=settled, at=[]))


def integral_of(samples, t):
    return float(np.trapezoid(samples, t) if hasattr(np, "trapezoid") else np.trapz(samples, t))


def machine():
    """A motor with brushes of blocks: u = R i + L di/dt + k w, J dw/dt = k i - d w, over one switch and a diode."""
    r, l, k, inertia, drag, level, f, duty, ron, vf = 0.5, 1e-3, 0.2, 2e-4, 1e-2, 48.0, 5e3, 0.6, 0.02, 0.8
    period = 1 / f

    def rates(on):
        def f_(t, x):
            i, w = x
            u = level - ron * i if on else -(vf + 0.01 * i)
            return [(u - r * i - k * w) / l, (k * i - drag * w) / inertia]
        return f_

    t, x, highest, end = 0.0, [0.0, 0.0], 0.0, 40e-3
    n = 0
    while t < end - 1e-12:
        for on, until in ((True, (n + duty) * period), (False, (n + 1) * period)):
            done = solve_ivp(rates(on), (t, until), x, method="DOP853", rtol=1e-12, atol=1e-12)
            x, t = list(done.y[:, -1]), until
            assert x[0] > 0, "the diode would block"
            highest = max(highest, x[0])
        n += 1
    written("a motor with brushes, of blocks", """
V1 dc-voltage in 0 level 48
M1 modulator - g - f 5k duty 0.6
S1 switch in a g rung 2 ron 20m roff 1M
D1 diode 0 a rung 2 vf 0.8 ron 10m roff 1M
R1 resistor a b r 0.5
L1 inductor b e l 1m
P1 probe i of L1.i gain 0.2
P2 probe w of W1.y gain 10m
S2 sum i w - torque signs +-
W1 integrator torque - omega k 5000
G1 gain omega emf k 0.2
E1 signal-voltage e 0 emf
""", end, [dict(what="max", quantity="L1.i", value=highest, **{"from": 0, "to": end}),
           dict(what="at", quantity="W1.y", value=x[1], at=end), dict(what="at", quantity="L1.i", value=x[0], at=end)],
            tolerance=2e-6)


def regulated():
    """A step-down chopper whose duty a sampled PI regulator sets at each period, delay one period."""
    level, l, c, load, f = 40.0, 40e-6, 60e-6, 2.5, 50e3
    dcr, esr, ron, period = 20e-3, 10e-3, 10e-3, 1 / 50e3
    kp, ki, target = 0.01, 60.0, 15.0
    # Synchronous: both switches have the same resistance, so the circuit is linear and only its source switches.
    a = np.array([[-(dcr + ron + load * esr / (load + esr)) / l, -load / (load + esr) / l],
                  [load / (load + esr) / c, -1 / (load + esr) / c]])
    b = np.array([level / l, 0.0])
    out = np.array([load * esr / (load + esr), load / (load + esr)])
    from scipy.linalg import expm

    def go(x, dt, on):
        if dt <= 0:
            return x
        big = np.zeros((3, 3))
        big[:2, :2], big[:2, 2] = a, b * on
        return (expm(big * dt) @ np.append(x, 1.0))[:2]

    x, integral, duty, end, t = np.zeros(2), 0.0, 0.0, 4e-3, 0.0
    coming = 0.0
    n, tops, sums = 0, [], []
    while n * period < end - 1e-12:
        # At the sample: what was computed a period ago is taken over, then measured and computed.
        duty = coming
        e = target - out @ x
        proportional = kp * e
        integral = min(max(integral + ki * period * e, 0.0), 0.9)
        coming = min(max(proportional + integral, 0.0), 0.9)
        sums.append(proportional + integral)
        x = go(x, duty * period, 1)
        tops.append(x[0])
        x = go(x, (1 - duty) * period, 0)
        n += 1
    assert 0 < min(sums) and max(sums) < 0.9, "limits would need more words"
    written("a sampled regulator, a period late", """
V1 dc-voltage in 0 level 40
T1 task period 20u delay 15u
P1 probe v of out.v gain -1 offset 15
REG1 pi v - - y kp 0.01 ki 60 low 0 high 0.9 task T1
M1 modulator y g n f 50k duty 0 sampling "once a period"
S1 switch in sw g rung 2 ron 10m roff none
S2 switch sw 0 n rung 2 ron 10m roff none
L1 inductor sw out rung 2 l 40u dcr 20m
C2 capacitor out 0 rung 2 c 60u esr 10m
R1 resistor out 0 r 2.5
""", end, [dict(what="at", quantity="L1.i", value=float(x[0]), at=end), dict(what="at", quantity="out.v", value=float(out @ x), at=end),
           dict(what="max", quantity="L1.i", value=float(max(tops)), **{"from": 0, "to": end})])


def warm():
    """A resistance that heats itself: C_th dT/dt = u^2/R(T) - (T - T_a)/R_th, R = R_0 (1 + a (T - 25))."""
    u, r0, alpha, rth, cth, ta = 60.0, 20.0, 4e-3, 2.0, 0.01, 25.0
    done = solve_ivp(lambda t, x: [(u * u / (r0 * (1 + alpha * (ta + x[0] - 25))) - x[0] / rth) / cth], (0, 60e-3), [0.0],
                     method="DOP853", rtol=1e-12, atol=1e-12, dense_output=True)
    end = float(done.y[0, -1])
    rest = brentq(lambda x: u * u / (r0 * (1 + alpha * x)) * rth - x, 0, 1e4)
    written("a resistance that heats itself", """
V1 dc-voltage in 0 level 60
R1 resistor in 0 rung 4 r 20 tc 4m rth 2 cth 10m ta 25 ls none cp none
""", 60e-3, [dict(what="at", quantity="R1.rise", value=end, at=60e-3),
             dict(what="at", quantity="R1.rise", value=float(done.sol(11e-3)[0]), at=11e-3)], tolerance=1e-4)
    return rest


def saturating():
    """A choke whose inductance falls with its current, by a table of inductance over current, on a sine."""
    points = [(0.0, 10e-3), (2.0, 10e-3), (4.0, 3e-3), (10.0, 1e-3)]

    def inductance(i):
        return float(np.interp(abs(i), [p[0] for p in points], [p[1] for p in points]))

    def f(t, x):
        return [(100 * math.sin(2 * math.pi * 50 * t) - 8 * x[0]) / inductance(x[0])]

    t = np.linspace(0, 40e-3, 200001)
    done = solve_ivp(f, (0, 40e-3), [0.0], method="DOP853", rtol=1e-11, atol=1e-12, max_step=2e-6, dense_output=True)
    i = done.sol(t)[0]
    tail = t >= 20e-3
    written("a choke that saturates", """
V1 sine-voltage in 0 peak 100 f 50
R1 resistor in a r 8
L1 inductor a 0 rung 4 table "0 10m, 2 10m, 4 3m, 10 1m" fsr 1G
""", 40e-3, [dict(what="max", quantity="L1.i", value=float(i[tail].max()), **{"from": 20e-3, "to": 40e-3}),
             dict(what="rms", quantity="L1.i", value=math.sqrt(integral_of(i[tail]**2, t[tail]) / 20e-3),
                  **{"from": 20e-3, "to": 40e-3})], tolerance=1e-3)


def closed_forms():
    # A resonant pulse through a diode: i = V sqrt(C/L) sin(w t), half a period, C ends at 2 V.
    l, c, v = 100e-6, 10e-6, 20.0
    w = 1 / math.sqrt(l * c)
    written("a resonant pulse through an ideal diode", """
V1 dc-voltage in 0 level 20
D1 diode in a
L1 inductor a b l 100u
C1 capacitor b 0 c 10u
""", 300e-6, [dict(what="max", quantity="L1.i", value=v * math.sqrt(c / l), **{"from": 0, "to": 300e-6}),
              dict(what="at", quantity="C1.v", value=2 * v, at=250e-6),
              dict(what="at", quantity="L1.i", value=v * math.sqrt(c / l) * math.sin(w * 30e-6), at=30e-6),
              dict(what="rms", quantity="L1.i", value=v * math.sqrt(c / l) * math.sqrt(math.pi / w / 2 / 300e-6),
                   **{"from": 0, "to": 300e-6})])
    # An ideal step-down chopper in its periodic state: pp of the current V (1 - D) D T / L, harmonics of the switched voltage.
    level, d, f, l = 50.0, 0.37, 40e3, 80e-6
    values = [dict(what="pp", quantity="L1.i", value=level * d * (1 - d) / f / l, **{"from": 0, "to": 25e-6}),
              dict(what="mean", quantity="out.v", value=level * d, **{"from": 0, "to": 25e-6})]
    values += [dict(what="harmonic", quantity="sw.v", value=2 * level / math.pi / k * abs(math.sin(math.pi * k * d)), base=f,
                    order=k, **{"from": 0, "to": 25e-6}) for k in (1, 2, 3, 10)]
    written("an ideal chopper, settled", """
V1 dc-voltage in 0 level 50
V2 dc-voltage out 0 level 18.5
M1 modulator - g n f 40k duty 0.37
S1 switch in sw g ron none
S2 switch sw 0 n
L1 inductor sw x l 80u
R1 resistor x out r 1u
""".replace(" ron none", ""), 25e-6, values, settled=25e-6)


machine()
regulated()
warm()
saturating()
closed_forms()


def main():
    only = sys.argv[1:]
    told = []
    for one in CASES:
        if only and not any(o in one["name"] for o in only):
            continue
        values = one.get("values", [])
        if "step" in one:
            text = "\n".join(line for line in one["text"].strip().splitlines()
                             if line.split()[1] not in ("signal-sine", "constant") and not (one["gates"] and line.split()[1] == "modulator"))
            circuit = solve.Circuit(text, one["end"], one["step"], one["gates"]).run()
            for m in one["measures"]:
                value = circuit.measure(m[0], m[1], m[2], m[3], *m[4:])
                entry = dict(what=m[0], quantity=m[1], value=value, **{"from": m[2], "to": m[3]})
                if len(m) > 4:
                    entry.update(base=m[4], order=m[5])
                values.append(entry)
            for quantity, t in one["at"]:
                values.append(dict(what="at", quantity=quantity, at=t, value=circuit.at(quantity, t)))
            if one["settled"]:
                p = one["settled"]
                one["periodic"] = [dict(what=w, quantity=q, value=circuit.measure(w, q, one["end"] - p, one["end"]))
                                   for w, q in sorted({(m[0], m[1]) for m in one["measures"] if m[0] != "harmonic"})]
            print(one["name"], len(circuit.pieces), "pieces", file=sys.stderr)
        told.append(dict(name=one["name"], text=one["text"].strip(), end=one["end"], tolerance=one.get("tolerance", 1e-6),
                         settled=one["settled"] or 0, values=values, periodic=one.get("periodic", [])))
    with open(os.path.join(os.path.dirname(os.path.abspath(__file__)), "circuits.json"), "w") as file:
        json.dump(told, file, indent=1)
        file.write("\n")


main()
