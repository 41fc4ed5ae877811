// SPDX-License-Identifier: MIT
// Device trees, and the image trees (FIT) that have their form. Read by libfdt, once it has checked the whole.
#pragma once

#include <cstdint>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include <herberge/bytes.hpp>

namespace herberge {

/// A flattened tree in memory ("Devicetree Specification" 0.4, chapter 5).
class DeviceTree {
public:
    static constexpr std::uint64_t most_bytes = std::uint64_t{256} << 20U;

    /// Reads and checks the whole tree. Errors: Malformed (no mark, parts outside the whole, nesting that does not
    /// close), OutOfRange (the source is shorter than the tree says), TooLarge (beyond 256 MiB).
    [[nodiscard]] static Result<DeviceTree> open(const ByteSource& source, std::uint64_t at = 0);

    /// -1: no such node.
    [[nodiscard]] int node(std::string_view path) const;
    [[nodiscard]] std::vector<int> children(int node) const;
    [[nodiscard]] std::string name(int node) const;
    [[nodiscard]] bool has(int node, const std::string& property) const;
    /// The property's bytes; empty when there is none.
    [[nodiscard]] std::span<const std::uint8_t> property(int node, const std::string& name) const;
    /// Its text up to the first zero; empty: none.
    [[nodiscard]] std::string text(int node, const std::string& name) const;
    /// A list of texts.
    [[nodiscard]] std::vector<std::string> texts(int node, const std::string& name) const;
    /// A number of 4 or 8 bytes.
    [[nodiscard]] std::optional<std::uint64_t> number(int node, const std::string& name) const;
    /// Where a property's bytes lie, from the tree's start.
    [[nodiscard]] std::uint64_t offset_of(std::span<const std::uint8_t> part) const;
    [[nodiscard]] std::uint64_t size() const { return bytes_.size(); }
    [[nodiscard]] std::span<const std::uint8_t> bytes() const { return bytes_; }
    /// This tree with another one laid over it, in at most `room` bytes more (at most 16 MiB). Errors: Malformed (it is
    /// no overlay, or asks for what this tree has not; `found` is libfdt's name of it), TooLarge (it does not fit).
    [[nodiscard]] Result<DeviceTree> with_overlay(const DeviceTree& overlay, std::uint64_t room) const;

private:
    std::vector<std::uint8_t> bytes_;
};

}  // namespace herberge
