// SPDX-License-Identifier: MIT
// Errors as values. Nothing in this library throws for bad input.
#pragma once

#include <cstdint>
#include <string>
#include <tl/expected.hpp>

#include <herberge/visibility.hpp>

namespace HERBERGE_PUBLIC herberge {

/// What kind of obstacle an Error describes.
enum class ErrorKind : std::uint8_t {
    Io,           ///< the operating system refused a read
    OutOfRange,   ///< a read beyond the end of the source
    Unreadable,   ///< a read touching a range declared unreadable
    Malformed,    ///< a structure contradicts its specification
    Checksum,     ///< a stored checksum does not match
    Unsupported,  ///< a feature this library knows by name but does not decode
    NotFound,     ///< a file, partition or device that is not there
    WrongType,    ///< a file where a directory was needed, or the reverse
    LinkLoop,     ///< symbolic links that do not end
    TooLarge,     ///< a size beyond what is plausible or allowed
    Exhausted,    ///< what the whole walk may cost is used up
};

/// What an Error says about the thing that was asked for. Whoever decides by it answers all of them: in a switch, so
/// that none is forgotten.
enum class Lack : std::uint8_t {
    Absent,       ///< it is not there
    Unreadable,   ///< the medium does not give the bytes that would tell
    Damaged,      ///< it is there, and not as it must be
    Unsupported,  ///< it is there, and this library does not read it
    Exhausted,    ///< it was not looked at, because the walk's budget is used up
};

/// Why something could not be read: what was read, where, what was expected and what was found.
struct Error {
    ErrorKind kind = ErrorKind::Malformed;
    std::string what;        ///< one sentence fragment: "the ext superblock has no magic number"
    std::string place;       ///< in the notation of places: "d1p1:/boot/vmlinuz", "d1@512+512"
    std::string expected;    ///< empty when there is nothing to compare
    std::string found;       ///< empty when there is nothing to compare
    std::uint64_t byte = 0;  ///< Unreadable: the first byte that could not be had, from the disk's start

    friend bool operator==(const Error&, const Error&) = default;
    /// The bytes could not be had from the medium, whatever they say: neither absent nor damaged.
    [[nodiscard]] bool unreadable() const { return kind == ErrorKind::Io || kind == ErrorKind::Unreadable; }
    /// What it says about the thing that was asked for. A file where a directory was needed counts as absent, a link
    /// that leads nowhere as well.
    [[nodiscard]] Lack lack() const;
    /// The whole error as one line for people.
    [[nodiscard]] std::string text() const;
};

template <class T>
using Result = tl::expected<T, Error>;

/// Shorthand for returning an Error from a function that returns a Result.
inline tl::unexpected<Error> fail(ErrorKind kind, std::string what, std::string place = {}, std::string expected = {},
                                  std::string found = {}) {
    return tl::unexpected<Error>(Error{kind, std::move(what), std::move(place), std::move(expected), std::move(found)});
}

}  // namespace herberge
