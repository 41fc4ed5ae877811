// SPDX-License-Identifier: MIT
#include "remedy/hive_edits.hpp"

#include <fmt/format.h>
#include <cstring>

#include "bytes/text16.hpp"
#include "ondisk/hive.hpp"

namespace herberge::remedy {

namespace {

constexpr std::uint64_t bins_at = 4096;
constexpr std::uint32_t inside = 0x80000000U;  ///< HiveValueCell::size: the data is in the record itself
constexpr std::uint32_t most_in_one_cell = 16344;

/// A value's record, and where it lies in the file.
struct Record {
    Source file;
    std::uint64_t at = 0;
    ondisk::HiveValueCell cell{};
    std::string name;
};
Result<Record> find_record(const Machine& machine, const FilePlace& file, std::string_view key, std::string_view name) {
    const auto hive = open_clean(machine, file);
    if (!hive) return tl::unexpected(hive.error());
    const auto id = (*hive)->at(key);
    if (!id) return tl::unexpected(id.error());
    Record out;
    auto source = open_file(machine, file);
    if (!source) return tl::unexpected(source.error());
    out.file = std::move(source->bytes);
    const auto node = out.file->load<ondisk::HiveKey>(bins_at + *id + 4);
    if (!node) return tl::unexpected(node.error());
    for (std::uint32_t i = 0; i < node->values && i < 65536; ++i) {
        const auto cell =
            out.file->load<ondisk::little_uint32_t>(bins_at + node->value_list + 4 + std::uint64_t{i} * 4);
        if (!cell) return tl::unexpected(cell.error());
        out.at = bins_at + *cell + 4;
        const auto record = out.file->load<ondisk::HiveValueCell>(out.at);
        if (!record) return tl::unexpected(record.error());
        out.cell = *record;
        const auto letters = out.file->bytes(out.at + sizeof(*record), record->name_length);
        if (!letters) return tl::unexpected(letters.error());
        if ((record->flags & 1U) == 0 && record->name_length != 0) continue;  // no name in one-byte letters
        out.name.assign(letters->begin(), letters->end());
        if (lower_text(out.name) == lower_text(name)) return out;
    }
    return fail(ErrorKind::NotFound, "there is no such value", file.text(), {}, fmt::format("{}\\{}", key, name));
}

}  // namespace

Result<std::shared_ptr<const Hive>> open_clean(const Machine& machine, const FilePlace& file) {
    const auto source = open_file(machine, file);
    if (!source) return tl::unexpected(source.error());
    auto hive = open_hive(source->bytes);
    if (!hive) return tl::unexpected(hive.error());
    if ((*hive)->state() != HiveState::Clean)
        return fail(ErrorKind::Unsupported, "the hive was being written: its logs would be laid over the change",
                    file.text());
    return *hive;
}

Result<void> set_value(Workshop& shop, const FilePlace& file, std::string_view key, std::string_view name,
                       std::span<const std::uint8_t> content) {
    const Machine machine = shop.machine();
    auto record = find_record(machine, file, key, name);
    if (!record) return tl::unexpected(record.error());
    const auto size = static_cast<std::uint32_t>(content.size());
    if ((record->cell.size & inside) != 0) {
        if (content.size() > 4)
            return fail(ErrorKind::TooLarge, "the value has room for four bytes", std::string(name));
        if (auto wrote = shop.write(*record->file, record->at + offsetof(ondisk::HiveValueCell, data), content); !wrote)
            return wrote;
        record->cell.size = size | inside;
    } else {
        const std::uint64_t at = bins_at + record->cell.data;
        const auto room = record->file->load<ondisk::little_uint32_t>(at);
        if (!room) return tl::unexpected(room.error());
        // A cell in use has its size negated; the size itself counts.
        const std::uint32_t cell = 0U - *room;
        if (cell > most_in_one_cell + 8 || cell < 4 || content.size() > cell - 4)
            return fail(ErrorKind::TooLarge, "the value's cell has no room for that", std::string(name),
                        fmt::format("{} bytes", cell - 4), fmt::format("{}", content.size()));
        if (auto wrote = shop.write(*record->file, at + 4, content); !wrote) return wrote;
        record->cell.size = size;
    }
    const ondisk::little_uint32_t stored = record->cell.size;
    return shop.write(*record->file, record->at + offsetof(ondisk::HiveValueCell, size), ondisk::stored_bytes(stored));
}

Result<void> set_number(Workshop& shop, const FilePlace& file, std::string_view key, std::string_view name,
                        std::uint32_t number) {
    const ondisk::little_uint32_t stored(number);
    return set_value(shop, file, key, name, ondisk::stored_bytes(stored));
}

Result<void> set_text(Workshop& shop, const FilePlace& file, std::string_view key, std::string_view name,
                      std::string_view text) {
    std::vector<std::uint8_t> bytes;
    for (const char16_t unit : utf16_from(text) + u'\0') {
        bytes.push_back(static_cast<std::uint8_t>(unit));
        bytes.push_back(static_cast<std::uint8_t>(unit >> 8U));
    }
    return set_value(shop, file, key, name, bytes);
}

Result<void> rename_value(Workshop& shop, const FilePlace& file, std::string_view key, std::string_view name,
                          std::string_view to) {
    if (name.size() != to.size())
        return fail(ErrorKind::Malformed, "the other name is not as long", std::string(to), std::string(name));
    const Machine machine = shop.machine();
    const auto record = find_record(machine, file, key, name);
    if (!record) return tl::unexpected(record.error());
    return shop.write(*record->file, record->at + sizeof(ondisk::HiveValueCell),
                      {reinterpret_cast<const std::uint8_t*>(to.data()), to.size()});
}

}  // namespace herberge::remedy
