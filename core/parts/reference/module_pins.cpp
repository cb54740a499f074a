// The pins of a module: parts on its sheet that have no equations, since a module is laid out before it is solved.

#include "model/modules.h"
#include "network/part_type.h"

namespace hedgerow {

namespace {

class ModulePin final : public PartType {
public:
    ModulePin(std::string_view id, std::string title, std::string prefix, PinSort inside, std::string standardSide)
        : id_(id),
          title_(std::move(title)),
          prefix_(std::move(prefix)),
          inside_(inside),
          side_(std::move(standardSide)) {}

    PartKind kind() const override {
        return {.id = id_,
                .title = title_,
                .prefix = prefix_,
                .synonyms = synonyms(),
                .summary = "Where a module meets the sheet on which it is placed",
                .help =
                    "Stands on the sheet of a module. Its name is the name of the pin that places of the module "
                    "have; the side is that of the module's symbol on which the pin comes out, and pins on one "
                    "side follow each other there as they do on the sheet. On the main sheet it joins nothing.",
                .pins = {{"o", {0, 0}, inside_}},
                .parameters = {{.key = "side",
                                .label = "side of the symbol",
                                .symbol = "",
                                .unit = "",
                                .standard = side_,
                                .choices = {"left", "right", "top", "bottom"}}},
                .rungs = {{1, "no equations of its own", "v_o = v of the pin outside", "definition", 1.0}},
                .symbol = symbol(),
                .labelAt = {-28, -16},
                .group = "Modules"};
    }
    void elaborate(NetworkBuilder&) const override {}

private:
    std::vector<std::string> synonyms() const {
        switch (inside_) {
            case PinSort::power:
                return {"module pin", "port"};
            case PinSort::signalOut:
                return {"module input"};
            default:
                return {"module output"};
        }
    }
    std::vector<Stroke> symbol() const {
        switch (inside_) {
            case PinSort::power:
                return {{"M 0 0 L -8 0"}, {"O -14 0 6", Stroke::Weight::heavy}};
            case PinSort::signalOut:
                return {{"M 0 0 L -8 0"}, {"M -24 -6 L -14 -6 L -8 0 L -14 6 L -24 6 Z"}};
            default:
                return {{"M 0 0 L -8 0"}, {"M -24 0 L -18 -6 L -8 -6 L -8 6 L -18 6 Z"}};
        }
    }

    std::string id_, title_, prefix_;
    PinSort inside_;
    std::string side_;
};

}  // namespace

void registerModulePins(PartLibrary& library) {
    library.add(std::make_unique<ModulePin>(powerPinKind, "Power pin of a module", "P", PinSort::power, "left"));
    library.add(
        std::make_unique<ModulePin>(signalInKind, "Signal input of a module", "in", PinSort::signalOut, "left"));
    library.add(
        std::make_unique<ModulePin>(signalOutKind, "Signal output of a module", "out", PinSort::signalIn, "right"));
}

}  // namespace hedgerow
