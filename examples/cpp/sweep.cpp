// One run and its ripple, then a study of the output capacitor, on all cores.

#include <cstdio>

#include <hedgerow.h>

using namespace hedgerow;

namespace {

int fail(const Error& error) {
    std::fprintf(stderr, "%s\n", error.text().c_str());
    return 1;
}

}  // namespace

int main(int argc, char** argv) {
    if (argc != 2) return std::fputs("usage: sweep PROJECT\n", stderr), 2;
    auto loaded = loadHedge(argv[1]);
    if (!loaded) return fail(loaded.error());
    const auto project = std::make_shared<const Project>(std::move(loaded->project));

    const auto run = Run::prepare(project, {.settle = true});
    if (!run) return fail(run.error());
    (*run)->execute(CancelToken());
    const auto output = readTrace(**run, "out.v");
    if (!output) return fail(output.error());
    if (const auto measured = (*output)->measure(0, (*run)->reached()))
        std::printf("settled: mean %.4f V, ripple %.1f mV\n", measured->mean, 1e3 * measured->peakToPeak());

    ParameterStudy question;
    question.varied = {"C2.c: 47u, 100u, 220u, 470u"};
    question.measured = {"pp of out.v"};
    question.settle = true;
    const auto setup = prepareStudy(project, question);
    if (!setup) return fail(setup.error());
    StudyRows rows;
    if (const auto done = runStudy(*setup, rows, {}, CancelToken()); !done) return fail(done.error());
    for (const StudyRow& row : rows.made)
        std::printf("C2 = %s: ripple %s\n", row.point.front().c_str(),
                    row.error.empty() ? (std::to_string(1e3 * row.values.front()) + " mV").c_str() : row.error.c_str());
    return 0;
}
