#include "formats/hedge/json_place.h"

#include <fmt/format.h>

#include <algorithm>

namespace hedgerow {

namespace {

/// Steps over JSON values without building anything.
class Walker {
public:
    explicit Walker(std::string_view text) : text_(text) {}

    std::size_t find(const JsonPath& path) {
        blanks();
        for (const JsonStep& step : path) {
            const std::size_t parent = at_;
            if (!enter(step)) return parent;
        }
        return at_;
    }

private:
    char now() const { return at_ < text_.size() ? text_[at_] : '\0'; }
    void blanks() {
        while (now() == ' ' || now() == '\n' || now() == '\r' || now() == '\t') ++at_;
    }
    std::string string() {
        const std::size_t start = ++at_;
        while (at_ < text_.size() && text_[at_] != '"') at_ += text_[at_] == '\\' ? 2 : 1;
        at_ = std::min(at_, text_.size());
        const std::string content(text_.substr(start, at_ - start));
        if (at_ < text_.size()) ++at_;
        return content;
    }
    void skip() {
        int depth = 0;
        do {
            blanks();
            if (now() == '"') {
                string();
            } else if (now() == '{' || now() == '[') {
                ++depth, ++at_;
            } else if (now() == '}' || now() == ']') {
                --depth, ++at_;
            } else if (now() == ',' || now() == ':') {
                ++at_;
            } else
                while (at_ < text_.size() &&
                       std::string_view(",:{}[]\" \n\r\t").find(text_[at_]) == std::string_view::npos)
                    ++at_;
        } while (depth > 0 && at_ < text_.size());
    }
    bool enter(const JsonStep& step) {
        const bool object = now() == '{';
        if (!object && now() != '[') return false;
        ++at_;
        for (std::size_t index = 0;; ++index) {
            blanks();
            if (now() == ',') {
                ++at_;
                blanks();
            }
            if (now() == '}' || now() == ']' || at_ >= text_.size()) return false;
            if (object) {
                const std::string name = string();
                blanks();
                ++at_;  // the colon
                blanks();
                if (std::holds_alternative<std::string>(step) && std::get<std::string>(step) == name) return true;
            } else if (std::holds_alternative<std::size_t>(step) && std::get<std::size_t>(step) == index) {
                return true;
            }
            skip();
        }
    }

    std::string_view text_;
    std::size_t at_ = 0;
};

}  // namespace

TextPlace placeOfByte(std::string_view text, std::size_t byte) {
    TextPlace place;
    for (std::size_t i = 0; i < std::min(byte, text.size()); ++i) {
        if (text[i] == '\n')
            ++place.line, place.column = 1;
        else if ((text[i] & 0xC0) != 0x80)
            ++place.column;
    }
    return place;
}

TextPlace placeOfValue(std::string_view text, const JsonPath& path) {
    return placeOfByte(text, Walker(text).find(path));
}

std::string beyondBounds(std::string_view text) {
    constexpr std::size_t deepest = 64, mostMembers = 20'000;
    constexpr double mostWork = 5e8;  // members of an object are found one after the other
    std::vector<std::size_t> members;  // of the objects and lists that are open
    double work = 0;
    bool inString = false;
    for (std::size_t i = 0; i < text.size(); ++i) {
        const char c = text[i];
        if (inString) {
            if (c == '\\')
                ++i;
            else if (c == '"')
                inString = false;
        } else if (c == '"') {
            inString = true;
        } else if (c == '{' || c == '[') {
            if (members.size() >= deepest) return fmt::format("is nested more than {} levels deep", deepest);
            members.push_back(0);
        } else if (c == ':' && !members.empty()) {
            work += static_cast<double>(++members.back());
            if (members.back() > mostMembers || work > mostWork)
                return fmt::format("has an object with more than {} members, or too many large ones", mostMembers);
        } else if ((c == '}' || c == ']') && !members.empty()) {
            members.pop_back();
        }
    }
    return "";
}

}  // namespace hedgerow
