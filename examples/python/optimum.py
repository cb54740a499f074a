"""The switching frequency, choke and capacitor of MED-AUX with the least losses and price that keep ripple and swing: the way of the search.

    HEDGEROW_CLI=build/release/cli/hedgerow-cli PYTHONPATH=python python3 examples/python/optimum.py [picture.png]
"""

import pathlib
import sys

import hedgerow

PROJECT = pathlib.Path(__file__).resolve().parent.parent / "med-aux.hedge"
VARIED = ["fsw: 80k to 300k", "L1.l: 10u to 47u", "C2.c: 47u to 470u"]
MEASURED = ["ripple = pp of out.v below 60m", "swing = pp of L1.i below 8", "conduction = loss of S1", "edges = expression 500m * fsw / 100k",
            "parts = expression 400m * L1.l / 10u + 150m * C2.c / 100u", "sum = expression conduction + edges + parts"]


def main():
    with hedgerow.Service() as service:
        aux = service.open(PROJECT)
        table = aux.study(VARIED, MEASURED, runs="minimise sum, 200 runs", settle=True, plan="start-up")
    for line in table.summary:
        print(line)
    if len(sys.argv) > 1:
        import matplotlib

        matplotlib.use("Agg")
        from matplotlib import pyplot

        sums = table[MEASURED[-1]]
        shades = pyplot.scatter([1e-3 * f for f in table["fsw"]], [1e6 * l for l in table["L1.l"]], c=sums, vmax=sorted(sums)[len(sums) // 2])
        pyplot.colorbar(shades, label="losses and price")
        pyplot.xlabel("fsw, kHz")
        pyplot.ylabel("L1, µH")
        pyplot.savefig(sys.argv[1])


main()
