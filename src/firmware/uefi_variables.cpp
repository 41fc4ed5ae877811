// SPDX-License-Identifier: MIT
// Variable stores (MdeModulePkg/Include/Guid/VariableFormat.h), boot options (UEFI specification 2.10).
#include <fmt/format.h>
#include <algorithm>
#include <filesystem>

#include <herberge/uefi.hpp>

#include "bytes/text16.hpp"
#include "firmware/variable_store.hpp"
#include "ondisk/uefi.hpp"

namespace herberge {

namespace {

constexpr std::size_t most_flash = 64U << 20U;

/// Variables lie one after another, four-byte aligned; state bits are cleared as a variable ages.
template <class Head>
void read_store(std::span<const std::uint8_t> store, UefiVariables& out) {
    constexpr std::size_t header = sizeof(Head);
    constexpr std::uint8_t added = 0x3F;  // VAR_ADDED
    constexpr std::uint8_t in_deletion =
        0x3E;  // VAR_IN_DELETED_TRANSITION & VAR_ADDED: still good when nothing replaced it
    std::size_t at = sizeof(ondisk::VariableStoreHead);
    std::vector<UefiVariable> leaving;
    while (at + header <= store.size()) {
        const auto head = ondisk::from_bytes<Head>(store, at);
        if (head.mark != uefi::variable_mark) break;
        const std::size_t name_size = head.name_size;
        const std::size_t data_size = head.data_size;
        const std::size_t room = store.size() - at - header;
        if (name_size > room || data_size > room - name_size) {
            out.findings.push_back(make_finding(
                Code::UefiVariableCut, fmt::format("a variable at byte {} of the store claims more than there is", at),
                {evidence_place(out.source)}));
            break;
        }
        if (head.state == added || head.state == in_deletion) {
            UefiVariable v;
            v.attributes = head.attributes;
            v.guid = ondisk::guid_at(head.vendor, 0);
            v.name = printable(utf8_from(units_from(store.subspan(at + header, name_size), false, true)));
            const auto data = store.subspan(at + header + name_size, data_size);
            v.data.assign(data.begin(), data.end());
            if (head.state == in_deletion) leaving.push_back(std::move(v));
            else out.all.push_back(std::move(v));
        }
        at += (header + name_size + data_size + 3) / 4 * 4;
    }
    for (auto& v : leaving)
        if (out.find(v.name, v.guid) == nullptr) out.all.push_back(std::move(v));
}

/// A write of whole blocks that the firmware had begun: what it will copy over the store at its next start
/// (MdeModulePkg/Universal/FaultTolerantWriteDxe).
struct PendingWrite {
    std::size_t spare = 0;
    std::size_t target = 0;
    std::size_t length = 0;
};

constexpr std::string_view working_block = "9e58292b-7c68-497d-a0ce-6500fd9f1b95";

/// The last write of the queue, when its copy in the spare area is complete and its destination is not.
std::optional<PendingWrite> pending_write(std::span<const std::uint8_t> flash, std::size_t volume_at) {
    constexpr std::size_t block = 4096;
    // Bits of flash that are 0 are set.
    const auto set = [](std::uint8_t state, unsigned bit) { return (state >> bit & 1U) == 0; };
    for (std::size_t at = 0; at + sizeof(ondisk::WorkingBlockHead) <= flash.size(); at += 256) {
        const auto head = ondisk::from_bytes<ondisk::WorkingBlockHead>(flash, at);
        if (ondisk::guid_at(head.signature, 0) != working_block || !set(head.state, 0) || set(head.state, 1)) continue;
        const std::size_t end =
            at + sizeof(head) + std::min<std::uint64_t>(head.queue_size, flash.size() - at - sizeof(head));
        std::optional<PendingWrite> out;
        for (std::size_t i = at + sizeof(head); i + sizeof(ondisk::PendingWriteHead) <= end;) {
            const auto write = ondisk::from_bytes<ondisk::PendingWriteHead>(flash, i);
            if (!set(write.state, 0)) break;
            const std::uint64_t each = sizeof(ondisk::PendingWriteRecord) + write.private_size;
            if (write.private_size > end - i || write.writes > (end - i) / each) break;
            out.reset();
            for (std::uint64_t n = 0; n < write.writes && set(write.state, 1) && !set(write.state, 2); ++n) {
                const auto record = ondisk::from_bytes<ondisk::PendingWriteRecord>(
                    flash, i + sizeof(write) + static_cast<std::size_t>(n * each));
                if (!set(record.state, 1) || set(record.state, 2)) continue;
                // The spare area lies where the destination is from, seen the other way round; the store is the only
                // destination that is of interest, and begins its volume.
                const std::uint64_t spare =
                    volume_at + record.block * block - static_cast<std::uint64_t>(record.relative);
                const std::uint64_t length = (record.offset + record.length + block - 1) / block * block;
                if (record.block != 0 || record.length > flash.size() || record.offset > flash.size() ||
                    spare >= flash.size() || length > flash.size() - spare || volume_at >= flash.size() ||
                    length > flash.size() - volume_at)
                    continue;
                out = PendingWrite{static_cast<std::size_t>(spare), volume_at, static_cast<std::size_t>(length)};
            }
            i += sizeof(write) + static_cast<std::size_t>(write.writes * each);
        }
        return out;
    }
    return std::nullopt;
}

}  // namespace

std::optional<uefi::StorePlace> uefi::find_store(std::span<const std::uint8_t> flash) {
    // The store's own GUID is looked for at every eight bytes: behind a firmware volume's header, or bare.
    for (std::size_t at = 0; at + sizeof(ondisk::VariableStoreHead) <= flash.size(); at += 8) {
        const auto head = ondisk::from_bytes<ondisk::VariableStoreHead>(flash, at);
        const std::string guid = ondisk::guid_at(head.signature, 0);
        const bool authenticated = guid == ondisk::authenticated_store;
        if (!authenticated && guid != ondisk::plain_store) continue;
        constexpr std::uint8_t formatted = 0x5A;
        if (head.size >= sizeof(head) && head.format == formatted)
            return StorePlace{at, std::min<std::size_t>(head.size, flash.size() - at), authenticated};
    }
    return std::nullopt;
}

namespace {
/// A volume's header has 72 bytes, with its map of equal blocks.
constexpr std::size_t volume_header = 72;
std::size_t volume_of(const uefi::StorePlace& store) {
    return store.at >= volume_header ? store.at - volume_header : 0;
}
}  // namespace

bool uefi::write_pending(std::span<const std::uint8_t> flash, const StorePlace& store) {
    return pending_write(flash, volume_of(store)).has_value();
}

const UefiVariable* UefiVariables::find(std::string_view name, std::string_view guid) const {
    const auto found =
        std::ranges::find_if(all, [&](const UefiVariable& v) { return v.name == name && v.guid == guid; });
    return found != all.end() ? &*found : nullptr;
}

Result<UefiVariables> parse_uefi_flash(std::span<const std::uint8_t> flash) {
    UefiVariables out;
    out.source = "variables";
    std::vector<std::uint8_t> mended;
    auto store = uefi::find_store(flash);
    if (store) {
        if (const auto write = pending_write(flash, volume_of(*store))) {
            mended.assign(flash.begin(), flash.end());
            std::copy_n(flash.begin() + static_cast<std::ptrdiff_t>(write->spare), write->length,
                        mended.begin() + static_cast<std::ptrdiff_t>(write->target));
            out.findings.push_back(make_finding(Code::UefiVariablesRewritten,
                                                fmt::format("the firmware was interrupted while it rewrote its "
                                                            "variables: at its next start it takes {} from byte {} on",
                                                            size_text(write->length), write->spare),
                                                {evidence_place(out.source)}));
            flash = mended;
            store = uefi::find_store(flash);
        }
    }
    if (!store) return fail(ErrorKind::Malformed, "no variable store is in the file");
    const auto bytes = flash.subspan(store->at, store->size);
    if (store->authenticated) read_store<ondisk::VariableHead>(bytes, out);
    else read_store<ondisk::PlainVariableHead>(bytes, out);
    return out;
}

namespace {
/// Only regular files of a bounded size: others may have no end, or block for ever.
Result<std::vector<std::uint8_t>> whole_file(const std::string& path) {
    const auto file = open_image(path, 0);
    if (!file) return tl::unexpected(file.error());
    if ((*file)->size() > most_flash)
        return fail(ErrorKind::TooLarge, "the flash image is too large", path, size_text(most_flash),
                    size_text((*file)->size()));
    return (*file)->bytes(0, (*file)->size(), most_flash);
}
}  // namespace

Result<UefiVariables> read_uefi_variables(const std::string& path) {
    std::error_code error;
    if (std::filesystem::is_directory(path, error)) {
        UefiVariables out;
        out.source = path;
        for (const auto& file : std::filesystem::directory_iterator(path, error)) {
            // "BootOrder-8be4df61-…": four bytes of attributes, then the data.
            const std::string name = file.path().filename().string();
            if (name.size() < 38 || name[name.size() - 37] != '-') continue;
            const auto raw = whole_file(file.path().string());
            if (!raw || raw->size() < 4) continue;
            UefiVariable v;
            v.name = name.substr(0, name.size() - 37);
            v.guid = name.substr(name.size() - 36);
            std::ranges::transform(v.guid, v.guid.begin(),
                                   [](unsigned char c) { return static_cast<char>(std::tolower(c)); });
            v.data.assign(raw->begin() + 4, raw->end());
            out.all.push_back(std::move(v));
        }
        if (out.all.empty()) return fail(ErrorKind::NotFound, "no variable files are in the folder", path);
        return out;
    }
    const auto bytes = whole_file(path);
    if (!bytes) return tl::unexpected(bytes.error());
    auto out = parse_uefi_flash(*bytes);
    if (!out) {
        out.error().place = path;
        return out;
    }
    out->source = path;
    return out;
}

std::vector<UefiBootOption> boot_options(const UefiVariables& variables) {
    std::vector<std::uint16_t> order;
    auto take = [&](std::string_view name) {
        const auto* v = variables.find(name);
        if (v == nullptr) return;
        for (std::size_t i = 0; i + 2 <= v->data.size(); i += 2) {
            const std::uint16_t number = ondisk::from_bytes<ondisk::little_uint16_t>(v->data, i);
            if (std::ranges::find(order, number) == order.end()) order.push_back(number);
            if (name == "BootNext") break;
        }
    };
    take("BootNext");
    take("BootOrder");
    std::vector<UefiBootOption> out;
    for (const auto number : order) {
        const auto* v = variables.find(fmt::format("Boot{:04X}", number));
        if (v == nullptr || v->data.size() < 8) continue;
        const std::span<const std::uint8_t> data(v->data);
        UefiBootOption option;
        option.number = number;
        const auto head = ondisk::from_bytes<ondisk::LoadOptionHead>(data);
        const std::uint32_t attributes = head.attributes;
        option.active = (attributes & 1U) != 0;
        option.hidden = (attributes & 8U) != 0;
        const std::size_t path_length = head.path_length;
        const auto text = units_from(data.subspan(sizeof(head)), false, true);
        const std::size_t at = sizeof(head) + 2 * (text.size() + 1);
        const bool ended = at <= data.size();
        option.description = printable(utf8_from(text));
        option.whole = ended && path_length <= data.size() - at;
        if (option.whole) {
            option.path = decode_device_path(data.subspan(at, path_length));
            option.optional_data.assign(data.begin() + static_cast<std::ptrdiff_t>(at + path_length), data.end());
        }
        out.push_back(std::move(option));
    }
    return out;
}

}  // namespace herberge
