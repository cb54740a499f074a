"""The output of MED-AUX after its load step, for a row of output capacitors: a table, and a picture where matplotlib is there.

    HEDGEROW_CLI=build/release/cli/hedgerow-cli PYTHONPATH=python python3 examples/python/capacitor_family.py [picture.png]
"""

import pathlib
import sys

import hedgerow

PROJECT = pathlib.Path(__file__).resolve().parent.parent / "med-aux.hedge"
CAPACITORS = ["47u", "100u", "220u", "470u"]


def main():
    family = []
    with hedgerow.Service() as service:
        for c in CAPACITORS:
            aux = service.open(PROJECT)
            aux.set("C2.c", c)
            run = aux.run(plan="start-up", scene="load step")
            lowest = run.measure("out.v", start=1.5e-3)["min"]
            family.append((c, run.trace("out.v", start=1.4e-3, stop=2.2e-3)))
            print(f"C2 {c:>5}: the output falls to {lowest:.2f} V")
    if len(sys.argv) > 1:
        import matplotlib

        matplotlib.use("Agg")
        from matplotlib import pyplot

        for c, (t, v) in family:
            pyplot.plot([1e3 * x for x in t], v, label=f"{c}F")
        pyplot.xlabel("t, ms")
        pyplot.ylabel("out.v, V")
        pyplot.legend(title="C2")
        pyplot.savefig(sys.argv[1])


main()
