"""MED-MAST over the tolerances of its parts: the ripple of its output and the phase margin of its loop, each run in its periodic state.

    HEDGEROW_CLI=build/release/cli/hedgerow-cli PYTHONPATH=python python3 examples/python/tolerance.py [picture.png [runs]]
"""

import pathlib
import sys

import hedgerow

PROJECT = pathlib.Path(__file__).resolve().parent.parent / "med-mast.hedge"
RIPPLE, MARGIN = "pp of out.v below 0.3", "phase margin of REG2.y above 40"


def main():
    runs = sys.argv[2] if len(sys.argv) > 2 else "16"
    with hedgerow.Service() as service:
        mast = service.open(PROJECT)
        table = mast.study(["L1.l: 100u +- 20 %", "C2.c: 220u +- 20 %", "C2.esr: 4m to 16m", "Rload: 28 to 64", "Vin: 31 to 44"], [RIPPLE, MARGIN],
                           runs=f"latin {runs}", settle=True, scene="steady")
    for line in table.summary:
        print(line)
    if len(sys.argv) > 1:
        import matplotlib

        matplotlib.use("Agg")
        from matplotlib import pyplot

        pyplot.scatter([1e3 * v for v in table[RIPPLE]], [57.29578 * v for v in table[MARGIN]])
        pyplot.xlabel("ripple of out.v, mV")
        pyplot.ylabel("phase margin of REG2.y, °")
        pyplot.savefig(sys.argv[1])


main()
