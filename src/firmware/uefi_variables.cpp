// SPDX-License-Identifier: MIT
// Variable stores (MdeModulePkg/Include/Guid/VariableFormat.h), boot options and device paths (UEFI specification 2.10).
#include <fmt/format.h>
#include <algorithm>
#include <filesystem>
#include <fstream>
#include <iterator>

#include <herberge/uefi.hpp>

#include "ondisk/describe.hpp"
#include "volume/text16.hpp"

namespace herberge {

namespace {

constexpr std::string_view authenticated_store = "aaf32c78-947b-439a-a180-2e144ec37792";
constexpr std::string_view plain_store = "ddcf3616-3275-4164-98b6-fe85707ffe7d";
constexpr std::size_t most_flash = 64U << 20U;
constexpr std::uint16_t variable_mark = 0x55AA;

std::string guid_at(std::span<const std::uint8_t> bytes, std::size_t at) {
    if (at + 16 > bytes.size()) return {};
    std::array<std::uint8_t, 16> turned{};
    static constexpr std::array<std::size_t, 16> order = {3, 2, 1, 0, 5, 4, 7, 6, 8, 9, 10, 11, 12, 13, 14, 15};
    for (std::size_t i = 0; i < 16; ++i) turned.at(i) = bytes[at + order.at(i)];
    return uuid_text(turned);
}

template <class T>
T get(std::span<const std::uint8_t> bytes, std::size_t at) {
    return ondisk::from_bytes<T>(bytes, at);
}

/// Variables lie one after another, four-byte aligned; state bits are cleared as a variable ages.
void read_store(std::span<const std::uint8_t> store, bool authenticated, UefiVariables& out) {
    constexpr std::size_t store_header = 28;
    const std::size_t header = authenticated ? 60 : 32;
    constexpr std::uint8_t added = 0x3F;        // VAR_ADDED
    constexpr std::uint8_t in_deletion = 0x3E;  // VAR_IN_DELETED_TRANSITION & VAR_ADDED: still good when nothing replaced it
    std::size_t at = store_header;
    std::vector<UefiVariable> leaving;
    while (at + header <= store.size()) {
        if (get<ondisk::little_uint16_t>(store, at) != variable_mark) break;
        const std::uint8_t state = store[at + 2];
        const std::size_t sizes = authenticated ? at + 36 : at + 8;
        const std::size_t name_size = get<ondisk::little_uint32_t>(store, sizes);
        const std::size_t data_size = get<ondisk::little_uint32_t>(store, sizes + 4);
        const std::size_t room = store.size() - at - header;
        if (name_size > room || data_size > room - name_size) {
            out.findings.push_back(make_finding("uefi-variable-cut", fmt::format("a variable at byte {} of the store claims more than there is", at),
                                                {evidence_place(out.source)}));
            break;
        }
        if (state == added || state == in_deletion) {
            UefiVariable v;
            v.attributes = get<ondisk::little_uint32_t>(store, at + 4);
            v.guid = guid_at(store, sizes + 8);
            v.name = printable(utf8_from(units_from(store.subspan(at + header, name_size), false, true)));
            const auto data = store.subspan(at + header + name_size, data_size);
            v.data.assign(data.begin(), data.end());
            if (state == in_deletion) leaving.push_back(std::move(v));
            else out.all.push_back(std::move(v));
        }
        at += (header + name_size + data_size + 3) / 4 * 4;
    }
    for (auto& v : leaving)
        if (out.find(v.name, v.guid) == nullptr) out.all.push_back(std::move(v));
}

}  // namespace

const UefiVariable* UefiVariables::find(std::string_view name, std::string_view guid) const {
    const auto found = std::ranges::find_if(all, [&](const UefiVariable& v) { return v.name == name && v.guid == guid; });
    return found != all.end() ? &*found : nullptr;
}

Result<UefiVariables> parse_uefi_flash(std::span<const std::uint8_t> flash) {
    UefiVariables out;
    out.source = "variables";
    // The store's own GUID is looked for at every eight bytes: behind a firmware volume's header, or bare.
    for (std::size_t at = 0; at + 28 <= flash.size(); at += 8) {
        const std::string guid = guid_at(flash, at);
        const bool authenticated = guid == authenticated_store;
        if (!authenticated && guid != plain_store) continue;
        const std::size_t size = get<ondisk::little_uint32_t>(flash, at + 16);
        constexpr std::uint8_t formatted = 0x5A;
        if (size < 28 || flash[at + 20] != formatted) continue;
        read_store(flash.subspan(at, std::min(size, flash.size() - at)), authenticated, out);
        return out;
    }
    return fail(ErrorKind::Malformed, "no variable store is in the file");
}

Result<UefiVariables> read_uefi_variables(const std::string& path) {
    std::error_code error;
    if (std::filesystem::is_directory(path, error)) {
        UefiVariables out;
        out.source = path;
        for (const auto& file : std::filesystem::directory_iterator(path, error)) {
            // "BootOrder-8be4df61-…": four bytes of attributes, then the data.
            const std::string name = file.path().filename().string();
            if (name.size() < 38 || name[name.size() - 37] != '-') continue;
            std::ifstream in(file.path(), std::ios::binary);
            const std::vector<char> raw{std::istreambuf_iterator<char>(in), std::istreambuf_iterator<char>()};
            if (raw.size() < 4 || raw.size() > most_flash) continue;
            UefiVariable v;
            v.name = name.substr(0, name.size() - 37);
            v.guid = name.substr(name.size() - 36);
            std::ranges::transform(v.guid, v.guid.begin(), [](unsigned char c) { return static_cast<char>(std::tolower(c)); });
            v.data.assign(raw.begin() + 4, raw.end());
            out.all.push_back(std::move(v));
        }
        if (out.all.empty()) return fail(ErrorKind::NotFound, "no variable files are in the folder", path);
        return out;
    }
    std::ifstream in(path, std::ios::binary);
    if (!in) return fail(ErrorKind::NotFound, "the file cannot be opened", path);
    std::vector<char> raw{std::istreambuf_iterator<char>(in), std::istreambuf_iterator<char>()};
    if (raw.size() > most_flash) return fail(ErrorKind::TooLarge, "the flash image is too large", path, size_text(most_flash), size_text(raw.size()));
    const std::vector<std::uint8_t> bytes(raw.begin(), raw.end());
    auto out = parse_uefi_flash(bytes);
    if (!out) {
        out.error().place = path;
        return out;
    }
    out->source = path;
    return out;
}

std::string DevicePath::text() const {
    std::string out;
    for (const auto& node : nodes) out += (out.empty() ? "" : "/") + node.text;
    return out;
}

DevicePath decode_device_path(std::span<const std::uint8_t> bytes) {
    DevicePath out;
    std::size_t at = 0;
    while (at + 4 <= bytes.size() && out.nodes.size() < 64) {
        const std::uint8_t type = bytes[at];
        const std::uint8_t subtype = bytes[at + 1];
        const std::size_t length = get<ondisk::little_uint16_t>(bytes, at + 2);
        if (length < 4 || length > bytes.size() - at) return out;
        if (type == 0x7F) {
            out.whole = true;
            return out;
        }
        const auto body = bytes.subspan(at + 4, length - 4);
        DevicePathNode node;
        node.type = type;
        node.subtype = subtype;
        if (type == 4 && subtype == 1 && body.size() >= 38) {
            node.partition = get<ondisk::little_uint32_t>(body, 0);
            const std::uint8_t kind = body[37];
            if (kind == 2) node.signature = guid_at(body, 20);
            else if (kind == 1) node.signature = fmt::format("{:08x}", std::uint32_t{get<ondisk::little_uint32_t>(body, 20)});
            node.text = fmt::format("HD({},{},{})", *node.partition, kind == 2 ? "GPT" : kind == 1 ? "MBR" : "no signature", node.signature);
        } else if (type == 4 && subtype == 4) {
            node.file = printable(utf8_from(units_from(body, false, true)));
            node.text = *node.file;
        } else if (type == 4 && subtype == 2) {
            node.text = "CDROM";
        } else if (type == 3) {
            static constexpr std::pair<std::uint8_t, std::string_view> names[] = {{1, "ATAPI"}, {2, "SCSI"},  {5, "USB"},   {11, "MAC"}, {12, "IPv4"},
                                                                                  {13, "IPv6"}, {18, "SATA"}, {23, "NVMe"}, {24, "URI"}, {29, "eMMC"}};
            const auto* known = std::ranges::find(names, subtype, &std::pair<std::uint8_t, std::string_view>::first);
            node.text = known != std::end(names) ? std::string(known->second) : fmt::format("message node {}", subtype);
        } else if (type == 2) {
            node.text = "ACPI";
        } else if (type == 1) {
            node.text = subtype == 1 ? "PCI" : fmt::format("hardware node {}", subtype);
        } else {
            node.text = fmt::format("node {}.{}", type, subtype);
        }
        out.nodes.push_back(std::move(node));
        at += length;
    }
    return out;
}

std::vector<UefiBootOption> boot_options(const UefiVariables& variables) {
    std::vector<std::uint16_t> order;
    auto take = [&](std::string_view name) {
        const auto* v = variables.find(name);
        if (v == nullptr) return;
        for (std::size_t i = 0; i + 2 <= v->data.size(); i += 2) {
            const std::uint16_t number = get<ondisk::little_uint16_t>(v->data, i);
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
        const std::uint32_t attributes = get<ondisk::little_uint32_t>(data, 0);
        option.active = (attributes & 1U) != 0;
        option.hidden = (attributes & 8U) != 0;
        const std::size_t path_length = get<ondisk::little_uint16_t>(data, 4);
        std::size_t at = 6;
        std::u16string text;
        bool ended = false;
        for (; at + 2 <= data.size(); at += 2) {
            const char16_t unit = static_cast<char16_t>(data[at] | data[at + 1] << 8U);
            if (unit == 0) {
                ended = true;
                at += 2;
                break;
            }
            text += unit;
        }
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
