// hedgerow-cli: checks, describes and runs projects without a window.

#include <cstdio>
#include <new>
#include <system_error>

#include <spdlog/sinks/stdout_sinks.h>
#include <spdlog/spdlog.h>
#include <CLI/CLI.hpp>

#include "base/machine.h"
#include "base/version.h"
#include "commands.h"
#include "desk/straight_lines.h"

using namespace hedgerow::cli;

namespace {

/// @param shown  which quantities are meant without --quantity
void addReading(CLI::App& command, ReadOptions& options, const std::string& shown) {
    command.add_option("--quantity", options.quantities,
                       "a quantity, or an expression such as 'out.v * L1.i', to measure and to write; " + shown +
                           " when not given; may be repeated");
    command.add_option("--from", options.from,
                       "where measures and files begin, such as 5m or '3 periods of V1'; the start when not given");
    command.add_option("--to", options.to, "where they end; the end when not given");
    command.add_option("--last", options.last,
                       "instead of --from: so long before the end, such as 5m or '10 periods of V1'");
    command.add_option("--every", options.every,
                       "instants of files lie so far apart, such as 1u; as stored when not given");
    command.add_option(
        "--harmonics", options.fundamental,
        "the fundamental, such as 50: its harmonics over the whole periods there are, and their distortion");
    command.add_option("--orders", options.orders, "the last harmonic")->check(CLI::Range(1, 100'000));
    command.add_option("--out", options.outputs, "a file to write, .csv, .h5, .cfg or .vcd; may be repeated");
}

/// What every command that solves a project takes.
void addSolving(CLI::App& command, RunOptions& options) {
    command.add_option("project", options.project, "a *.hedge file")->required();
    command.add_option("--scene", options.scene, "the scene to run; the first when not given");
    command.add_option("--plan", options.plan, "the plan to run by; the first when not given");
    command.add_option("--engine", options.engine, "engine instead of the plan's: best, exact, adaptive or fixed");
    command.add_option("--tolerance", options.tolerance,
                       "of the stored lines instead of the plan's, relative to the local swing, such as 1e-4");
    command.add_option("--set", options.sets, "a project parameter for this run, NAME=VALUE; may be repeated");
    command.add_flag("--allow-outside", options.allowOutside,
                     "read the files outside of its folder that the project names");
    command.add_flag("--json", options.json, "print JSON");
}

/// What those take that give a run.
void addRunning(CLI::App& command, RunOptions& options) {
    addSolving(command, options);
    command.add_flag("--even-out", options.evenOut, "even out start values that contradict each other");
    command.add_option("--keep", options.keep, "a file for the states at the end, to start another run from");
    command.add_flag("--verify", options.verify,
                     "solve again in long double, by finer steps and without shortcuts, and compare");
    command.add_option("--losses", options.losses,
                       "tell what the switches lost over such a time before the end, such as 1m");
    addReading(command, options.read, "shown lanes, and all in files");
    command.add_flag("--quiet", options.quiet, "no progress");
}

}  // namespace

int main(int argc, char** argv) {
    // Results go to standard output, everything else to standard error.
    spdlog::set_default_logger(spdlog::stderr_logger_mt("hedgerow"));
    spdlog::set_pattern("%l: %v");

    CLI::App app{"Hedgerow: simulates switching power circuits"};
    app.set_version_flag("--version", hedgerow::version);
    app.require_subcommand(1);

    std::string project;
    bool json = false;
    bool outside = false;
    const char* const outsideHelp = "read the files outside of its folder that the project names";
    auto* checking = app.add_subcommand("check", "Finds what keeps a project from running");
    checking->add_option("project", project, "a *.hedge file")->required();
    checking->add_flag("--json", json, "print JSON");
    checking->add_flag("--allow-outside", outside, outsideHelp);
    auto* describing = app.add_subcommand("info", "Lists parts, nets, parameters, plans and quantities of a project");
    describing->add_option("project", project, "a *.hedge file")->required();
    describing->add_flag("--json", json, "print JSON");
    describing->add_flag("--allow-outside", outside, outsideHelp);

    std::string kindName;
    auto* listing = app.add_subcommand("kinds", "Lists the kinds of parts: pins, keys, units, defaults and ranges");
    listing->add_option("name", kindName, "one kind only, by its name in files or what one types to find it");
    listing->add_flag("--json", json, "print JSON");

    std::string cards, library;
    double upTo = 10;
    int lines = 1;
    auto* reading = app.add_subcommand("cards", "Reads makers' model cards: .model and .subckt text");
    reading->add_option("file", cards, "a text file with cards")->required();
    reading->add_option("--out", library, "a project to write: devices on its sheet, subcircuits as modules");
    reading->add_option("--current", upTo, "A, up to which the straight lines of rungs 2 and 3 follow the curves");
    reading->add_option("--lines", lines, "straight lines of a diode's curve on rung 2")
        ->check(CLI::Range(1, hedgerow::mostLines));

    RunOptions options;
    auto* running = app.add_subcommand("run", "Runs a project");
    addRunning(*running, options);
    running->add_option("--start", options.start,
                        "instead of the plan's: given, 'operating point', settled, or a file that --keep wrote");
    running->add_option("--end", options.end, "end time instead of the plan's, such as 5m");
    running->add_option("--step", options.step, "step of the fixed engine instead of the plan's, such as 2u");
    running->add_option("--method", options.method,
                        "method of the fixed engine instead of the plan's: trapezoidal or 'backward Euler'");
    running->add_flag("--round-edges", options.roundEdges,
                      "the fixed engine switches at the instants of its grid only");
    running->add_option("--span", options.spans,
                        "a span of the run instead of those of the plan, such as 'until 3m: all on 2', settle, "
                        "'for 20u: Q1 on 4, exact'; repeated for one after the other");
    running->add_flag("--measures-only", options.measuresOnly,
                      "store no points: measure the quantities while the run goes on, however long it is");

    auto* settling = app.add_subcommand(
        "settle", "Finds the periodic state of a circuit, and runs some periods of it: no start-up is waited for");
    addRunning(*settling, options);
    settling->add_option("--start", options.start,
                         "where the search begins, instead of the plan's start: given, 'operating point', or a file "
                         "that --keep wrote");
    settling->add_option("--periods", options.periods, "how many settled periods to run, instead of the plan's number");
    settling->add_option(
        "--period", options.period,
        "the period instead of the plan's, such as 20m or '2 periods of M1'; a plan without one finds it");

    RunOptions pricing;
    double budget = 0.2;
    auto* priced = app.add_subcommand(
        "price", "What a run will cost, by tries of some milliseconds on the circuit: time, memory, points, by span");
    addSolving(*priced, pricing);
    priced->add_option("--start", pricing.start, "instead of the plan's");
    priced->add_option("--end", pricing.end, "end time instead of the plan's, such as 5m");
    priced->add_option("--step", pricing.step, "step of the fixed engine instead of the plan's");
    priced->add_option("--span", pricing.spans, "a span instead of those of the plan; repeated for one after the other");
    priced->add_option("--budget", budget, "seconds that all tries may take")->check(CLI::Range(0.01, 100.0));

    RespondOptions responding;
    auto* answering = app.add_subcommand(
        "respond", "Frequency responses about the periodic state: transfer functions, loop gains, impedances");
    addSolving(*answering, responding.run);
    answering->add_option("--start", responding.run.start, "where the search for the periodic state begins");
    answering->add_option("--period", responding.run.period, "the period instead of the plan's");
    answering->add_option("--from", responding.from,
                          "where a tone goes in: a signal, as K1.y, a source, as V1, or a current, as 'into out'");
    answering->add_option("--to", responding.to, "a quantity that answers, with --from; may be repeated");
    answering->add_option("--loop", responding.loop, "the loop gain at a signal, as REG1.y: the loop stays closed");
    answering->add_option("--impedance", responding.impedance, "the impedance at a net, as out, or 'out from ret'");
    answering->add_option("--span", responding.span, "from the lowest to the highest frequency, 10:1M when not given");
    answering->add_option("--points", responding.points, "frequencies, equally spaced on a logarithmic axis");
    answering->add_option("--tone", responding.tone,
                          "measure by a tone of this amplitude instead of computing: slower, as a check");
    answering->add_option("--out", responding.outputs, "a .csv or .h5 file to write; may be repeated");

    TradeOptions trading;
    auto* traded = app.add_subcommand(
        "trade", "What other ways of solving lose and save: errors of features and CPU times against a converged reference");
    addSolving(*traded, trading.run);
    traded->add_option("--study", trading.study, "a study of the project; the first when not given");
    traded->add_option("--feature", trading.features,
                       "what matters, such as 'pp of L1.i over last 20u within 1 %', instead of the study's; may be repeated");
    traded->add_option("--alternative", trading.alternatives,
                       "a way of solving, such as 'all on 2, exact', 'fixed, step 100n', 'plan look', or 'reference: all on "
                       "3', instead of the study's; may be repeated");
    traded->add_flag("--search", trading.search, "find the cheapest rungs that are good enough, part by part");
    traded->add_flag("--steps", trading.steps, "fixed steps from a tenth to a thousandth of the shortest period");
    traded->add_flag("--keep", trading.keep, "keep the result beside the project");
    traded->add_option("--out", trading.outputs, "a .csv, .h5, .json or .html file to write; may be repeated");
    traded->add_flag("--quiet", trading.run.quiet, "no progress");

    StudyOptions studying;
    const auto addQuestion = [&studying](CLI::App& command) {
        command.add_option("--study", studying.study, "a study of the project; the first when not given");
        command.add_option("--vary", studying.varied,
                           "what varies, such as 'C2.c: 22u, 47u, 100u', 'Rload: 1 to 10 in 20', 'L1.l: 22u +- 20 %', instead of the "
                           "study's; may be repeated");
        command.add_option("--measure", studying.measured,
                           "what is measured, such as 'pp of out.v over last 20u below 50m', instead of the study's; may be repeated");
        command.add_option("--runs", studying.runs, "which runs: grid, rows, corners, 'random 200', 'latin 200', 'sobol 256', 'minimise losses + fsw / 1M'; of a "
                                             "*.study file: those that it is to have from now on");
        command.add_option("--seed", studying.seed, "of what is random");
        command.add_option("--scene", studying.scene, "the scene to run; the first when not given");
        command.add_option("--plan", studying.plan, "the plan to run by; the first when not given");
        command.add_flag("--settle", studying.settle, "each run is its periodic state");
        command.add_flag("--allow-outside", studying.allowOutside, "read the files outside of its folder that the project names");
    };
    const auto addResults = [&studying](CLI::App& command) {
        command.add_option("--out", studying.outputs, "a .csv, .h5, .json or .html file to write; may be repeated");
        command.add_flag("--json", studying.json, "print JSON");
        command.add_flag("--quiet", studying.quiet, "no progress");
    };
    auto* studied = app.add_subcommand("study", "Many runs from one: what varies, what is measured, on all cores; a row for each run");
    studied->add_option("project", studying.project, "a *.hedge file, or the *.study file of one that goes on");
    addQuestion(*studied);
    studied->add_option("--keep", studying.keep, "quantities whose traces are kept, such as 'out.v + L1.i'");
    studied->add_option("--file", studying.file, "the *.study file to write; one beside the project when not given");
    studied->add_option("--threads", studying.threads, "cores; all when not given")->check(CLI::Range(1, 1024));
    studied->add_flag("--dry", studying.dry, "tell what would be run, and what it would take");
    studied->add_flag("--show", studying.show, "of a *.study file: tell what is in it, and run nothing");
    addResults(*studied);
    auto* optimising = studied->add_subcommand("optimise", "Finds the best values within ranges; limits of measures are constraints");
    optimising->add_option("project", studying.project, "a *.hedge file, or the *.study file of a search that goes on")->required();
    addQuestion(*optimising);
    optimising->add_option("--minimise", studying.minimise,
                           "an expression over named measures and parameters, such as 'ripple / 10m + losses', where a measure is "
                           "'ripple = pp of out.v'");
    optimising->add_option("--maximise", studying.maximise, "likewise, to be made large");
    optimising->add_flag("--global", studying.global, "search all of the ranges first");
    optimising->add_flag("--gradient", studying.gradient, "follow the gradient: where all is smooth; its runs are beside each other")
        ->excludes("--global");
    optimising->add_option("--threads", studying.threads, "cores; all when not given")->check(CLI::Range(1, 1024));
    optimising->add_option("--evaluations", studying.evaluations, "runs at most, 200 when not given")->check(CLI::Range(1, 1'000'000));
    optimising->add_option("--file", studying.file, "the *.study file for all runs; one beside the project when not given");
    addResults(*optimising);
    auto* splitting = studied->add_subcommand("split", "Makes a folder that processes and machines work on");
    splitting->add_option("project", studying.project, "a *.hedge file")->required();
    splitting->add_option("folder", studying.folder, "the folder to make")->required();
    addQuestion(*splitting);
    splitting->add_option("--chunk", studying.chunk, "runs of a task")->check(CLI::Range(1, 1'000'000));
    auto* working = studied->add_subcommand("work", "Runs a chunk of such a folder, or all that are missing with several processes");
    working->add_option("folder", studying.folder, "the folder")->required();
    working->add_option("chunk", studying.chunk, "its number, from 0")->check(CLI::Range(0, 10'000'000));
    working->add_option("--workers", studying.workers, "processes of this machine that run what is missing")->check(CLI::Range(1, 1024));
    working->add_flag("--allow-outside", studying.allowOutside, "read files of the project where it lay, outside of this folder");
    auto* submitting = studied->add_subcommand("submit", "Sends what is missing of such a folder to the Slurm of this site, as job arrays");
    submitting->add_option("folder", studying.folder, "the folder; all nodes see it under this path")->required();
    submitting->add_option("--partition", studying.slurm.partition, "of the cluster; the site's own when not given");
    submitting->add_option("--account", studying.slurm.account, "that pays");
    submitting->add_option("--time", studying.slurm.time, "the longest that a task may take, such as 30 or 1:00:00");
    submitting->add_option("--memory", studying.slurm.memory, "of a task, such as 2G");
    submitting->add_option("--together", studying.slurm.together, "tasks at a time at most")->check(CLI::Range(1, 1'000'000));
    submitting->add_option("--sbatch", studying.slurm.more, "a further option for sbatch, such as --qos=night; may be repeated");
    submitting->add_option("--program", studying.slurm.program, "hedgerow-cli, where the nodes find it under another path");
    submitting->add_flag("--allow-outside", studying.allowOutside, "tasks read files of the project where it lay, outside of this folder");
    submitting->add_flag("--wait", studying.wait, "wait until all rows are there; what is lost is sent again");
    addResults(*submitting);
    auto* telling = studied->add_subcommand("status", "How far the tasks of such a folder are");
    telling->add_option("folder", studying.folder, "the folder")->required();
    telling->add_flag("--json", studying.json, "print JSON");
    auto* cancelling = studied->add_subcommand("cancel", "Takes the tasks of such a folder out of the queue; what is done stays");
    cancelling->add_option("folder", studying.folder, "the folder")->required();
    cancelling->add_flag("--json", studying.json, "print JSON");
    auto* gathering = studied->add_subcommand("gather", "Takes what the tasks have made into the table of the study");
    gathering->add_option("folder", studying.folder, "the folder")->required();
    addResults(*gathering);

    bool schemaOnly = false;
    auto* serving = app.add_subcommand("serve", "A service for other programs: JSON-RPC 2.0 over standard input and output");
    serving->add_flag("--schema", schemaOnly, "print its methods instead");

    LearnOptions learning;
    auto* learnt = app.add_subcommand(
        "learn", "Switching energies of rung 2 from rung 4, in the circuit itself, at the currents that a run visits");
    addSolving(*learnt, learning.run);
    learnt->add_option("--part", learning.parts, "a device; all that can when not given; may be repeated");
    learnt->add_option("--rungs", learning.rungs, "what is learnt from, 'all on 4' when not given");
    learnt->add_option("--points", learning.points, "currents for each device and kind of event")->check(CLI::Range(1, 100));
    learnt->add_flag("--write", learning.write, "write the values into the project's file");
    learnt->add_flag("--quiet", learning.run.quiet, "no progress");

    TuneOptions tuning;
    auto* tuned = app.add_subcommand("tune", "Gains of a regulator for a crossover and a phase margin");
    addSolving(*tuned, tuning.run);
    tuned->add_option("--part", tuning.part, "the regulator, such as REG1")->required();
    tuned->add_option("--crossover", tuning.crossover, "where the loop gain is to pass 1, such as 8k")->required();
    tuned->add_option("--margin", tuning.margin, "the phase margin in degrees, such as 60")->required();
    tuned->add_flag("--write", tuning.write, "write the values into the project's file");

    std::string measured;
    ReadOptions measures;
    auto* measuring =
        app.add_subcommand("measure", "Measures recorded data: least, greatest and mean value, rms, harmonics");
    measuring->add_option("file", measured, "a file of recorded data: .csv, .h5, .cfg")->required();
    addReading(*measuring, measures, "all");
    measuring->add_flag("--json", json, "print JSON");

    std::string from, to, onto;
    bool overwrite = false;
    auto* converting =
        app.add_subcommand("convert", "Turns a project into the text form of its sheet, or a text into a project");
    converting->add_option("from", from, "a *.hedge file, or a text; - is standard input")->required();
    converting->add_option("to", to, "the other one of the two; - is standard output")->required();
    converting->add_option("--onto", onto, "a project whose drawing, plans and scenes stay where the text agrees");
    converting->add_flag("--overwrite", overwrite, "replace a file that exists");

    try {
        app.parse(argc, argv);
    } catch (const CLI::ParseError& error) {
        return app.exit(error) == 0 ? success : usage;
    }
    const auto carryOut = [&]() -> int {
        if (checking->parsed()) return check(project, json, outside);
        if (describing->parsed()) return info(project, json, outside);
        if (listing->parsed()) return kinds(kindName, json);
        if (reading->parsed()) return readCards(cards, library, upTo, lines);
        if (measuring->parsed()) return measure(measured, measures, json);
        if (converting->parsed()) return convert(from, to, onto, overwrite);
        if (answering->parsed()) return respond(responding);
        if (tuned->parsed()) return tune(tuning);
        if (traded->parsed()) return trade(trading);
        if (serving->parsed()) return serve(schemaOnly);
        if (optimising->parsed()) return studyOptimise(studying);
        if (splitting->parsed()) return studySplit(studying);
        if (working->parsed()) return studyWork(studying);
        if (gathering->parsed()) return studyGather(studying);
        if (submitting->parsed()) return studySubmit(studying);
        if (telling->parsed()) return studyStatus(studying);
        if (cancelling->parsed()) return studyCancel(studying);
        if (studied->parsed()) {
            if (studying.project.empty()) return std::fputs("name a project: hedgerow-cli study examples/med-aux.hedge\n", stderr), usage;
            return study(studying);
        }
        if (learnt->parsed()) return learn(learning);
        if (priced->parsed()) return price(pricing, budget);
        options.settle = settling->parsed();
        return run(options);
    };
    hedgerow::keepMemoryReserve();
    int code = success;
    try {
        code = carryOut();
    } catch (const std::bad_alloc&) {
        spdlog::error("there is no memory left");
        return runFailed;
    } catch (const std::system_error&) {  // fmt, where standard output takes no more
        code = unwritable;
    }
    if (std::fflush(stdout) != 0 || std::ferror(stdout)) code = unwritable;
    if (code == unwritable) spdlog::error("a result could not be written");
    return code;
}
