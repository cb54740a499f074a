// The reference node.

#include "network/part_type.h"

namespace hedgerow {

namespace {

class Reference final : public PartType {
public:
    PartKind kind() const override {
        return {.id = "reference",
                .title = "Reference node",
                .prefix = "REF",
                .synonyms = {"ref", "ground", "gnd", "earth", "0v", "common"},
                .summary = "The net that is 0 V",
                .help =
                    "Every potential of the sheet is counted from the net this part stands on. A sheet needs at least "
                    "one; several "
                    "stand for one and the same net, so that wires back to it need not be drawn.",
                .pins = {{"o", {0, 0}}},
                .rungs = {{1, "0 V, whatever current flows", "v = 0", "definition", 1.0}},
                .symbol = {{"M 0 0 L 0 12"},
                           {"M -16 12 L 16 12", Stroke::Weight::heavy},
                           {"M -10 18 L 10 18"},
                           {"M -4 24 L 4 24"}},
                .labelAt = {0, 0},
                .group = "Sources"};
    }
    void elaborate(NetworkBuilder&) const override {}
};

}  // namespace

void registerReference(PartLibrary& library) { library.add(std::make_unique<Reference>()); }

}  // namespace hedgerow
