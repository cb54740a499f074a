#include "formats/touchstone/touchstone.h"

#include <cctype>
#include <cmath>
#include <complex>
#include <numbers>
#include <optional>
#include <string>

#include <fmt/format.h>
#include <Eigen/Dense>

#include "base/text.h"

namespace hedgerow {

namespace {

using Complex = std::complex<double>;
using Matrix = Eigen::MatrixXcd;

constexpr int mostPorts = 64;
constexpr std::size_t mostPoints = 1'000'000;

Error atLine(int line, std::string message) { return {ErrorCode::syntax, std::move(message), {}, {}, {}, line, 1}; }

/// What the line of options says.
struct Options {
    double hertz = 1e9;
    char parameter = 'S', form = 'M';  ///< form: M magnitude and angle, D decibel and angle, R real and imaginary
    double resistance = 50;
};

class Reader {
public:
    Reader(std::string_view text, int ports) : text_(text), ports_(ports) {}

    Result<std::vector<FrequencyResponse>> read() {
        for (std::size_t start = 0; start < text_.size();) {
            const std::size_t end = std::min(text_.find('\n', start), text_.size());
            std::string_view line = text_.substr(start, end - start);
            start = end + 1;
            ++line_;
            line = trimmed(line.substr(0, line.find('!')));
            if (line.empty()) continue;
            Status done;
            if (line.front() == '#')
                done = options(line.substr(1));
            else if (line.front() == '[')
                done = keyword(line);
            else if (inReference_)
                done = reference(line);
            else
                done = numbers(line);
            if (!done) return done.error();
            if (over_) break;
        }
        if (values_.size() > 0 && !noise_) return atLine(line_, "the last frequency has too few numbers");
        if (frequencies_.empty()) return Error{ErrorCode::syntax, "there are no network parameters in this file"};
        if (announced_ && *announced_ != frequencies_.size())
            return Error{ErrorCode::syntax,
                         fmt::format("{} frequencies are announced, {} are there", *announced_, frequencies_.size())};
        return curves();
    }

private:
    Status options(std::string_view line) {
        if (haveOptions_) return {};  // only the first one counts
        haveOptions_ = true;
        const std::vector<std::string> said = words(line);
        for (std::size_t i = 0; i < said.size(); ++i) {
            const std::string word = lowerCase(said[i]);
            if (word == "hz")
                options_.hertz = 1;
            else if (word == "khz")
                options_.hertz = 1e3;
            else if (word == "mhz")
                options_.hertz = 1e6;
            else if (word == "ghz")
                options_.hertz = 1e9;
            else if (word == "s" || word == "y" || word == "z")
                options_.parameter = static_cast<char>(std::toupper(static_cast<unsigned char>(word[0])));
            else if (word == "h" || word == "g")
                return atLine(line_, "hybrid parameters are not read: S, Y and Z are");
            else if (word == "ma" || word == "db" || word == "ri")
                options_.form = static_cast<char>(std::toupper(static_cast<unsigned char>(word[0])));
            else if (word == "r") {
                const auto value = i + 1 < said.size() ? numberIn(said[i + 1]) : std::nullopt;
                if (!value || !(*value > 0))
                    return atLine(line_, "a reference resistance above 0 was expected behind R");
                options_.resistance = *value;
                ++i;
            } else
                return atLine(line_, fmt::format("'{}' is no option", said[i]));
        }
        return {};
    }

    Status keyword(std::string_view line) {
        const std::size_t close = line.find(']');
        if (close == std::string_view::npos) return atLine(line_, "']' was expected");
        const std::string name = lowerCase(std::string(trimmed(line.substr(1, close - 1))));
        const std::string rest(trimmed(line.substr(close + 1)));
        const auto whole = [&](double least, double most) -> Result<int> {
            const auto value = numberIn(rest);
            if (!value || *value != std::floor(*value) || *value < least || *value > most)
                return atLine(line_, fmt::format("[{}] takes a whole number", name));
            return static_cast<int>(*value);
        };
        const bool shapes = name == "version" || name == "number of ports" || name == "two-port data order" ||
                            name == "matrix format" || name == "reference";
        if (shapes && (!frequencies_.empty() || !values_.empty()))
            return atLine(line_, fmt::format("[{}] must come before the data", name));
        if (name == "version") {
            if (rest != "2.0" && rest != "2") return atLine(line_, fmt::format("version {} is not read", rest));
            second_ = true;
        } else if (name == "number of ports") {
            const auto value = whole(1, mostPorts);
            if (!value) return value.error();
            ports_ = *value;
        } else if (name == "two-port data order") {
            swapped_ = rest == "21_12";
        } else if (name == "number of frequencies") {
            const auto value = whole(1, static_cast<double>(mostPoints));
            if (!value) return value.error();
            announced_ = static_cast<std::size_t>(*value);
        } else if (name == "reference") {
            inReference_ = true;
            if (!rest.empty()) return reference(rest);
        } else if (name == "matrix format") {
            const std::string how = lowerCase(rest);
            if (how != "full" && how != "lower" && how != "upper")
                return atLine(line_, fmt::format("a matrix is full, lower or upper, not '{}'", rest));
            format_ = how[0];
        } else if (name == "noise data" || name == "end") {
            over_ = true;
        } else if (name == "mixed-mode order") {
            return atLine(line_, "mixed-mode parameters are not read");
        }
        return {};
    }

    Status reference(std::string_view line) {
        for (const std::string& word : words(line)) {
            const auto value = numberIn(word);
            if (!value || !(*value > 0)) return atLine(line_, fmt::format("'{}' is no reference resistance", word));
            references_.push_back(*value);
        }
        if (static_cast<int>(references_.size()) >= ports_) inReference_ = false;
        return {};
    }

    std::size_t perFrequency() const {
        const auto n = static_cast<std::size_t>(ports_);
        return 1 + 2 * (format_ == 'f' ? n * n : n * (n + 1) / 2);
    }

    Status numbers(std::string_view line) {
        if (noise_) return {};
        if (ports_ < 1 || ports_ > mostPorts)
            return atLine(line_, "the number of ports is not known: the file should be called .s1p, .s2p and so on");
        for (const std::string& word : words(line)) {
            const auto value = numberIn(word);
            if (!value) return atLine(line_, fmt::format("'{}' is no number", word));
            values_.push_back(*value);
            if (values_.size() < perFrequency()) continue;
            if (!frequencies_.empty() && values_[0] * options_.hertz <= frequencies_.back()) {
                // In version 1.1 noise parameters follow behind the last frequency, and begin with a lower one.
                if (second_ || ports_ != 2) return atLine(line_, "frequencies must rise");
                noise_ = true;
                values_.clear();
                return {};
            }
            if (auto done = point(); !done) return done;
            values_.clear();
        }
        // Two ports have five numbers of noise to a line.
        if (!second_ && ports_ == 2 && values_.size() == 5 && !frequencies_.empty() &&
            values_[0] * options_.hertz <= frequencies_.back())
            noise_ = true, values_.clear();
        return {};
    }

    Complex valueOf(double a, double b) const {
        if (options_.form == 'R') return {a, b};
        const double size = options_.form == 'D' ? std::pow(10.0, a / 20) : a;
        return std::polar(std::abs(size), b * std::numbers::pi / 180) * (size < 0 ? -1.0 : 1.0);
    }

    Status point() {
        if (frequencies_.size() >= mostPoints) return atLine(line_, "there are more frequencies than can be read");
        const Eigen::Index n = ports_;
        Matrix given = Matrix::Zero(n, n);
        std::size_t k = 1;
        for (Eigen::Index i = 0; i < n; ++i) {
            const Eigen::Index first = format_ == 'u' ? i : 0, last = format_ == 'l' ? i : n - 1;
            for (Eigen::Index m = first; m <= last; ++m, k += 2) {
                given(i, m) = valueOf(values_[k], values_[k + 1]);
                if (format_ != 'f') given(m, i) = given(i, m);
            }
        }
        // Two ports come as 11 21 12 22, but for files of version 2.0 that say otherwise.
        if (n == 2 && format_ == 'f' && (!second_ || swapped_)) std::swap(given(0, 1), given(1, 0));
        Eigen::VectorXd r = Eigen::VectorXd::Constant(n, options_.resistance);
        for (Eigen::Index i = 0; i < n && i < static_cast<Eigen::Index>(references_.size()); ++i)
            r(i) = references_[static_cast<std::size_t>(i)];
        const Eigen::MatrixXcd root = r.cwiseSqrt().cast<Complex>().asDiagonal();
        const Matrix one = Matrix::Identity(n, n);
        Matrix z;
        if (options_.parameter == 'S') {
            // Z = sqrt(R) (1 - S)^-1 (1 + S) sqrt(R)  (K. Kurokawa, 1965, for real references)
            const Eigen::FullPivLU<Matrix> lu(one - given);
            if (lu.isInvertible()) z = root * lu.solve(one + given) * root;
        } else if (options_.parameter == 'Y') {
            const Matrix y = second_ ? given : Matrix(root.inverse() * given * root.inverse());
            const Eigen::FullPivLU<Matrix> lu(y);
            if (lu.isInvertible()) z = lu.inverse();
        } else {
            z = second_ ? given : Matrix(root * given * root);
        }
        if (z.size() == 0 || !z.allFinite())
            return atLine(line_, "the parameters at this frequency have no impedance: a port is open for all currents");
        const double frequency = values_[0] * options_.hertz;
        if (!(frequency >= 0) || !std::isfinite(frequency)) return atLine(line_, "a frequency must not be negative");
        if (frequency == 0) return {};  // there is no place for it on a logarithmic axis
        frequencies_.push_back(frequency);
        for (Eigen::Index i = 0; i < n; ++i)
            for (Eigen::Index m = 0; m < n; ++m) impedances_.push_back(z(i, m));
        return {};
    }

    std::vector<FrequencyResponse> curves() const {
        std::vector<FrequencyResponse> all;
        const auto n = static_cast<std::size_t>(ports_);
        for (std::size_t i = 0; i < n; ++i)
            for (std::size_t m = 0; m < n; ++m) {
                FrequencyResponse one{fmt::format("Z{}{}{}", i + 1, n > 9 ? "," : "", m + 1), "Ω", frequencies_, {}};
                for (std::size_t k = 0; k < frequencies_.size(); ++k)
                    one.values.push_back(impedances_[(k * n + i) * n + m]);
                all.push_back(std::move(one));
            }
        return all;
    }

    std::string_view text_;
    int ports_, line_ = 0;
    Options options_;
    bool haveOptions_ = false, second_ = false, swapped_ = false, inReference_ = false, over_ = false, noise_ = false;
    char format_ = 'f';  ///< full, lower or upper
    std::optional<std::size_t> announced_;
    std::vector<double> references_, values_, frequencies_;
    std::vector<Complex> impedances_;
};

}  // namespace

Result<std::vector<FrequencyResponse>> readTouchstone(std::string_view text, int ports) {
    return Reader(text, ports).read();
}

int portsOfName(std::string_view name) {
    const std::string lower = lowerCase(std::string(name));
    const std::size_t dot = lower.rfind('.');
    if (dot == std::string::npos || lower.size() < dot + 4 || lower.back() != 'p') return 0;
    if (std::string_view("syz").find(lower[dot + 1]) == std::string_view::npos) return 0;
    int ports = 0;
    for (std::size_t i = dot + 2; i + 1 < lower.size(); ++i) {
        if (std::isdigit(static_cast<unsigned char>(lower[i])) == 0) return 0;
        ports = ports * 10 + (lower[i] - '0');
        if (ports > mostPorts) return 0;
    }
    return ports;
}

}  // namespace hedgerow
