#pragma once
// Errors and results. No exception crosses the public interface of the core: what can fail returns a Result.

#include <cassert>
#include <optional>
#include <string>
#include <utility>
#include <variant>

namespace hedgerow {

enum class ErrorCode {
    syntax,      ///< text that cannot be read as a number, an expression or a file
    unit,        ///< a unit that does not fit the field
    range,       ///< a value outside the range of its field
    name,        ///< an unknown, duplicate or cyclic name
    connection,  ///< a circuit that cannot work as it is joined
    illPosed,    ///< equations without a unique solution in a switch configuration
    numeric,     ///< not-a-number, overflow or no convergence
    resource,    ///< memory, disk or time limits
    file,        ///< reading or writing failed
    stop,        ///< nothing wrong: the user asked to stop here
};

/// What went wrong, for the user: a message, and what it is about.
struct Error {
    ErrorCode code = ErrorCode::syntax;
    std::string message;  ///< one sentence, names parts, nets and values, and says what to try
    std::string part = {};
    std::string net = {};
    std::string field = {};
    int line = 0;       ///< 1-based position in a file, 0 when not about a file
    int column = 0;     ///< 1-based, in characters
    int position = -1;  ///< 0-based offset of the offending character in a typed value, -1 when none

    /// The message with its position in front where there is one.
    std::string text() const {
        if (line > 0) return "line " + std::to_string(line) + ", column " + std::to_string(column) + ": " + message;
        return message;
    }
};

/// A value or an Error.
template <class T>
class [[nodiscard]] Result {
public:
    Result(T value) : content_(std::move(value)) {}
    Result(Error error) : content_(std::move(error)) {}

    explicit operator bool() const { return content_.index() == 0; }
    T& value() {
        assert(*this);
        return std::get<0>(content_);
    }
    const T& value() const {
        assert(*this);
        return std::get<0>(content_);
    }
    T& operator*() { return value(); }
    const T& operator*() const { return value(); }
    T* operator->() { return &value(); }
    const T* operator->() const { return &value(); }
    const Error& error() const {
        assert(!*this);
        return std::get<1>(content_);
    }

private:
    std::variant<T, Error> content_;
};

/// Success, or an Error.
template <>
class [[nodiscard]] Result<void> {
public:
    Result() = default;
    Result(Error error) : error_(std::move(error)) {}
    explicit operator bool() const { return !error_; }
    const Error& error() const {
        assert(error_);
        return *error_;
    }

private:
    std::optional<Error> error_;
};
using Status = Result<void>;

}  // namespace hedgerow
