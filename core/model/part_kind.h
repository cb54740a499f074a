#pragma once
// What a kind of part is, as plain data: pins, parameters, ladder, symbol and help. The equations live in core/parts.

#include <limits>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "model/project.h"

namespace hedgerow {

enum class PinSort { power, signalIn, signalOut };

struct PinKind {
    std::string name;
    Point at;  ///< relative to the origin of the symbol
    PinSort sort = PinSort::power;
    bool optional = false;  ///< may stay unconnected
    bool three = false;     ///< takes a wire of three signals together with the two pins after it (model/vectors.h)
};

struct ParameterKind {
    std::string key;                                          ///< in files and in the entry line: "dcr"
    std::string label;                                        ///< on the card: "winding resistance"
    std::string symbol;                                       ///< textbook notation, subscript after '_': "R_w"
    std::string unit;                                         ///< "" for a plain number
    std::string standard;                                     ///< default, as typed; "" means it must be given
    double least = -std::numeric_limits<double>::infinity();  ///< smallest valid value, SI
    double most = std::numeric_limits<double>::infinity();
    bool aboveLeast = false;  ///< `least` itself is not valid
    int rung = 1;             ///< the rung that first uses it
    bool shownOnSheet = false;
    std::vector<std::string> choices = {};  ///< words to choose from; the value is then one of them, not a number
    bool text = false;                      ///< the value is a text that the part reads itself
    bool expressions = false;               ///< a text of several expressions, "1, 2*k", or of constants, "kp = 2*k"
    bool anyUnit = false;                   ///< of a signal: a number of any unit, taken in SI
    bool atStart = false;                   ///< matters at the start of a run only
    bool ramps = false;                     ///< can change steadily during a run
    bool rating = false;                    ///< a limit to compare stress against, not part of the equations
    std::optional<double> none = {};  ///< what the word "none" stands for, where it can be typed: SI, 0 or infinite
};

struct RungKind {
    int rung = 1;
    std::string adds;       ///< one line: what it adds
    std::string equations;  ///< the equations it solves
    std::string source;     ///< where they come from
    double price = 1.0;     ///< cost relative to the ideal rung
};

/// One stroke of a symbol. `path` holds commands with absolute coordinates: M x y, L x y, A cx cy r startDeg spanDeg
/// (counter-clockwise from three o'clock), O cx cy r (circle), Z.
struct Stroke {
    enum class Weight { thin, normal, heavy };
    enum class When { always, blocking, conducting };
    std::string path;
    Weight weight = Weight::normal;
    bool filled = false;
    When when = When::always;  ///< of switching parts: drawn only in this state
    struct Choice {
        std::string key, word;
    };
    std::optional<Choice> choice = {};  ///< drawn only where this parameter says this word
};

struct PartKind {
    std::string id;                          ///< in files: "inductor"
    std::string title;                       ///< "Inductor"
    std::string prefix;                      ///< of new names: "L"
    std::vector<std::string> synonyms = {};  ///< what people type to find it
    std::string summary;                     ///< one line
    std::string help;                        ///< what it models and its limits, a paragraph or more
    std::vector<PinKind> pins;
    std::vector<ParameterKind> parameters = {};
    std::vector<RungKind> rungs;
    std::vector<Stroke> symbol;
    Point labelAt{24, -8};  ///< where name and value stand when the part is not turned
    std::string group;      ///< heading on the shelf
    std::string mark = {};  ///< text in the middle of the symbol, in textbook notation; it stays upright
    int placedAt = 1;       ///< rung of a new one
    bool module = false;    ///< made from a sheet of the project: drawn with its title and the names of its pins

    const ParameterKind* findParameter(std::string_view key) const;
    /// The given rung or, where the part lacks it, the next one below; the lowest when none is below.
    const RungKind& rungAtOrBelow(int rung) const;
    bool hasRung(int rung) const;
    int findPin(std::string_view name) const;
    /// Bounding box of the symbol: least and greatest coordinates, pins included. The catalogue works it out.
    const std::pair<Point, Point>& bounds() const { return box; }
    std::pair<Point, Point> box = {};
};

/// A rectangle on a sheet, its edges included.
struct Box {
    Point low, high;
    bool overlaps(const Box& other) const {
        return low.x <= other.high.x && other.low.x <= high.x && low.y <= other.high.y && other.low.y <= high.y;
    }
    bool contains(Point p) const { return low.x <= p.x && p.x <= high.x && low.y <= p.y && p.y <= high.y; }
};
/// Around two points.
Box boxAround(Point a, Point b);
/// Around the symbol of a part.
Box boxOf(const Part& part, const PartKind& kind);

/// All kinds of parts, by identifier.
class Catalogue {
public:
    /// @pre no kind of this identifier is there yet
    void add(PartKind kind);
    /// As add, in the place of a kind of this identifier if there is one.
    void set(PartKind kind);
    const PartKind* find(std::string_view id) const;
    const std::vector<const PartKind*>& all() const { return ordered_; }
    /// Finds by identifier, title or synonym, exactly.
    const PartKind* findByWord(std::string_view word) const;
    /// Kinds that match typed letters, best first: whole word, start of a word, letters in order; among equal ones
    /// those that were used `recently`, identifiers, come first in that order.
    std::vector<const PartKind*> search(std::string_view typed, const std::vector<std::string>& recently = {}) const;

private:
    std::map<std::string, std::shared_ptr<const PartKind>, std::less<>> kinds_;  ///< shared between copies
    std::vector<const PartKind*> ordered_;
};

}  // namespace hedgerow
