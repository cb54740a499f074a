"""The ripple of MED-AUX over the tolerances of its choke and its capacitor: 200 runs in their periodic state, and a histogram.

    HEDGEROW_CLI=build/release/cli/hedgerow-cli PYTHONPATH=python python3 examples/python/tolerance.py [picture.png]
"""

import pathlib
import sys

import hedgerow

PROJECT = pathlib.Path(__file__).resolve().parent.parent / "med-aux.hedge"
RIPPLE = "pp of out.v"


def main():
    with hedgerow.Service() as service:
        aux = service.open(PROJECT)
        table = aux.study(["L1.l: 22u +- 20 %", "C2.c: 120u +- 20 %"], [RIPPLE], runs="latin 200", settle=True, plan="start-up")
    for line in table.summary:
        print(line)
    if len(sys.argv) > 1:
        import matplotlib

        matplotlib.use("Agg")
        from matplotlib import pyplot

        pyplot.hist([1e3 * v for v in table[RIPPLE]], bins=20)
        pyplot.xlabel("pp of out.v, mV")
        pyplot.ylabel("runs")
        pyplot.savefig(sys.argv[1])


main()
