#pragma once
// The standard test circuits of a device: what it conducts, its capacitance, its gate charge, how it switches and
// recovers, on every rung that shows it, with the figures that data sheets give.

#include <optional>
#include <string>
#include <vector>

#include "base/cancel.h"
#include "base/result.h"
#include "model/part_kind.h"
#include "model/project.h"

namespace hedgerow {

struct Jig {
    std::string name;   ///< "turning on"
    std::string shows;  ///< one line
    int leastRung;      ///< that shows it
};

/// At what a device is tried. SI.
struct JigPoint {
    double voltage = 50, current = 10;
    double slope = 200e6;  ///< A/s, at which a diode is turned off
    double loop = 10e-9;   ///< H, between the supply and the device
    double hot = 125;      ///< °C, of the second figure of what depends on temperature
};

struct JigCurve {
    int rung;
    bool second;  ///< against the second axis
    std::vector<double> x, y;
};

/// A number as data sheets give it; nothing on rungs that do not have it.
struct JigFigure {
    std::string key, what, unit;  ///< "Eon", "energy of turning on", "J"
    std::vector<std::pair<int, double>> byRung;
    std::optional<double> given;  ///< by the data sheet, from the part's field "sheet"
};

struct JigResult {
    std::string xName, xUnit, yName, yUnit, secondName, secondUnit;
    std::vector<JigCurve> curves;
    std::vector<std::pair<double, double>>
        points;  ///< of the data sheet, from the part's own fields, on the first axes
    std::vector<JigFigure> figures;
    std::vector<std::string> failures;  ///< of rungs that did not run
};

/// The jigs of a kind of part; empty for what is no device.
std::vector<Jig> jigsFor(const PartKind& kind);

/// Runs a jig on every rung of the device that shows it.
/// @param project   whose parameters its values may use
/// @param jig       one of jigsFor()
/// @param onlyRung  the one to try; 0 for all
/// Errors: the device lies in no circuit on any rung, or was stopped.
Result<JigResult> runJig(const Project& project, const Part& device, const Jig& jig, const JigPoint& point,
                         const CancelToken& cancel, int onlyRung = 0);

/// What a device is given so that it meets the figures of its field "sheet", as far as each has a value that it
/// follows: conduction, capacitances, gate charge and recovery by trying the device in its jigs on rung 3, or on its
/// own rung above that; energies go to the tables of rung 2.
struct JigFit {
    std::vector<std::pair<std::string, std::string>> values;  ///< keys of the part, as typed
    std::vector<std::string> unmet;                           ///< figures that are further away than 5 %, or have none
};
Result<JigFit> fitToFigures(const Project& project, const Part& device, const JigPoint& point,
                            const CancelToken& cancel);

/// Figures of a data sheet from a text "Eon 120u, Qrr 300n"; the error names what is wrong.
Result<std::vector<std::pair<std::string, double>>> sheetFigures(const std::string& text);

}  // namespace hedgerow
