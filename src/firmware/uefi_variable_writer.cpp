// SPDX-License-Identifier: MIT
#include <algorithm>
#include <cstring>

#include <herberge/variable_writer.hpp>

#include "bytes/guid.hpp"
#include "bytes/text16.hpp"
#include "bytes/uniform.hpp"
#include "firmware/variable_store.hpp"
#include "ondisk/uefi.hpp"

namespace herberge {

namespace {

using Bytes = std::vector<std::uint8_t>;

constexpr std::uint8_t added = 0x3F, in_deletion = 0x3E, deleted_bit = 0xFD;
constexpr std::size_t alignment = 4;

Bytes stored_name(std::string_view name) {
    Bytes out;
    for (const char16_t unit : utf16_from(name)) {
        out.push_back(static_cast<std::uint8_t>(unit));
        out.push_back(static_cast<std::uint8_t>(unit >> 8U));
    }
    out.resize(out.size() + 2);
    return out;
}

/// The store's records, by the form of their heads.
template <class Head>
class Store {
public:
    explicit Store(std::span<std::uint8_t> bytes) : bytes_(bytes) {}

    Result<void> set(const UefiVariable& variable) {
        const auto name = stored_name(variable.name);
        const auto vendor = guid_bytes(variable.guid);
        if (!vendor) return fail(ErrorKind::Malformed, "a variable's vendor is no GUID", variable.guid);
        const std::size_t end = mark_deleted(name, *vendor);
        if (variable.data.empty()) return {};
        const std::size_t size = sizeof(Head) + name.size() + variable.data.size();
        const bool room =
            end <= bytes_.size() && size <= bytes_.size() - end && holds_only(bytes_.subspan(end, size), 0xFF);
        if (!room)
            return fail(ErrorKind::TooLarge, "the variable store has no room behind its last variable", variable.name);
        Head head{};
        head.mark = uefi::variable_mark;
        head.state = added;
        head.attributes = variable.attributes;
        head.name_size = static_cast<std::uint32_t>(name.size());
        head.data_size = static_cast<std::uint32_t>(variable.data.size());
        head.vendor = *vendor;
        std::memcpy(bytes_.data() + end, &head, sizeof(head));
        std::ranges::copy(name, bytes_.begin() + static_cast<std::ptrdiff_t>(end + sizeof(head)));
        std::ranges::copy(variable.data,
                          bytes_.begin() + static_cast<std::ptrdiff_t>(end + sizeof(head) + name.size()));
        return {};
    }

private:
    /// Marks every record of this name; gives the place behind the last record.
    std::size_t mark_deleted(const Bytes& name, const ondisk::Bytes<16>& vendor) {
        std::size_t at = sizeof(ondisk::VariableStoreHead);
        while (at + sizeof(Head) <= bytes_.size()) {
            auto head = ondisk::from_bytes<Head>(bytes_, at);
            const std::size_t room = bytes_.size() - at - sizeof(Head);
            if (head.mark != uefi::variable_mark || head.name_size > room || head.data_size > room - head.name_size)
                break;
            const auto here = bytes_.subspan(at + sizeof(Head), head.name_size);
            if ((head.state == added || head.state == in_deletion) && head.vendor == vendor &&
                std::ranges::equal(here, name)) {
                head.state = head.state & deleted_bit;
                std::memcpy(bytes_.data() + at, &head, sizeof(head));
            }
            at += (sizeof(Head) + head.name_size + head.data_size + alignment - 1) / alignment * alignment;
        }
        return at;
    }

    std::span<std::uint8_t> bytes_;
};

template <class Head>
Result<void> set_all(std::span<std::uint8_t> store, std::span<const UefiVariable> changes) {
    Store<Head> records(store);
    for (const auto& one : changes)
        if (auto done = records.set(one); !done) return done;
    return {};
}

}  // namespace

Result<std::vector<std::uint8_t>> with_variables(std::span<const std::uint8_t> flash,
                                                 std::span<const UefiVariable> changes) {
    const auto store = uefi::find_store(flash);
    if (!store) return fail(ErrorKind::Malformed, "no variable store is in the file");
    if (uefi::write_pending(flash, *store))
        return fail(ErrorKind::Unsupported, "the firmware has begun to rewrite its variables and will go on with that");
    Bytes out(flash.begin(), flash.end());
    const auto bytes = std::span(out).subspan(store->at, store->size);
    const auto done = store->authenticated ? set_all<ondisk::VariableHead>(bytes, changes)
                                           : set_all<ondisk::PlainVariableHead>(bytes, changes);
    if (!done) return tl::unexpected(done.error());
    return out;
}

}  // namespace herberge
