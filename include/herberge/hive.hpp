// SPDX-License-Identifier: MIT
// Registry hives.
#pragma once

#include <cstdint>
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include <herberge/bytes.hpp>
#include <herberge/finding.hpp>
#include <herberge/visibility.hpp>

namespace HERBERGE_PUBLIC herberge {

/// A key, as the place of its cell in the hive.
using HiveKeyId = std::uint32_t;

struct HiveValue {
    std::string name;        ///< empty: the key's default value
    std::uint32_t type = 0;  ///< 1 text, 2 text with variables, 3 bytes, 4 number, 7 several texts, 11 long number
    std::vector<std::uint8_t> data;

    /// The text of types 1 and 2, up to its first zero; for type 7 the first one.
    [[nodiscard]] std::string text() const;
    /// `with_empty`: empty ones, too, that of the end included.
    [[nodiscard]] std::vector<std::string> texts(bool with_empty = false) const;
    /// Numbers of up to eight bytes, whatever the type says.
    [[nodiscard]] std::optional<std::uint64_t> number() const;
};

/// How far a hive can be used.
enum class HiveState : std::uint8_t {
    Clean,
    Recovered,    ///< it was being written; its logs make it whole
    Unrecovered,  ///< it was being written, and no log fits
};

/// A hive file, with the changes of its logs laid over it. Reads only the cells that are asked for.
class Hive {
public:
    virtual ~Hive() = default;
    [[nodiscard]] virtual HiveState state() const = 0;
    [[nodiscard]] virtual HiveKeyId root() const = 0;
    [[nodiscard]] virtual Result<std::string> name(HiveKeyId key) const = 0;
    /// Subkeys in stored order.
    [[nodiscard]] virtual Result<std::vector<HiveKeyId>> subkeys(HiveKeyId key) const = 0;
    /// Names compare without case. Error NotFound when absent.
    [[nodiscard]] virtual Result<HiveKeyId> subkey(HiveKeyId key, std::string_view name) const = 0;
    [[nodiscard]] virtual Result<std::vector<HiveValue>> values(HiveKeyId key) const = 0;
    [[nodiscard]] virtual Result<HiveValue> value(HiveKeyId key, std::string_view name) const = 0;
    /// What is wrong with it, and what is known of where.
    [[nodiscard]] virtual const std::vector<Finding>& findings() const = 0;

    /// Follows "ControlSet001\Services\disk" from the root.
    [[nodiscard]] Result<HiveKeyId> at(std::string_view path) const;
    [[nodiscard]] std::optional<std::string> text_at(std::string_view path, std::string_view value) const;
    [[nodiscard]] std::optional<std::uint64_t> number_at(std::string_view path, std::string_view value) const;
};

/// Opens a hive. `logs` are LOG, LOG1 and LOG2 as far as they are there; they are used only when the hive is dirty.
/// Errors: Malformed, Checksum (base block beyond recovery), OutOfRange (the file is cut).
[[nodiscard]] Result<std::shared_ptr<const Hive>> open_hive(Source file, const std::vector<Source>& logs = {});

}  // namespace herberge
