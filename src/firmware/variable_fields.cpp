// SPDX-License-Identifier: MIT
// UEFI variables, field by field.
#include <fmt/format.h>
#include <fmt/ranges.h>
#include <algorithm>

#include <herberge/signature.hpp>

#include "bytes/text16.hpp"
#include "ondisk/uefi.hpp"

namespace herberge {

namespace {

constexpr std::size_t most_signatures = 4096;

struct ListKind {
    std::string_view type;
    std::string_view name;
};
/// Section 32.4.1, "Related definitions".
constexpr std::array<ListKind, 10> kinds = {
    {{"a5c059a1-94e4-4aa7-87b5-ab155c2bf072", "X.509 certificates"},
     {"c1c41626-504c-4092-aca9-41f936934328", "SHA-256 of images"},
     {"826ca512-cf10-4ac9-b187-be01496631bd", "SHA-1 of images"},
     {"0b6e5233-a65c-44c9-9407-d9ab83bfc8bd", "SHA-224 of images"},
     {"ff3e5307-9fd0-48c9-85f1-8ad56c701e01", "SHA-384 of images"},
     {"093e0fae-a6c4-4f50-9f1b-d41e2b89c19a", "SHA-512 of images"},
     {"3bd2a492-96c0-4079-b420-fcf98ef103ed", "SHA-256 of certificates, with a time of revocation"},
     {"7076876e-80c2-4ee6-aad2-28b349a6865b", "SHA-384 of certificates, with a time of revocation"},
     {"446dbf63-2502-4cda-bcfa-2465d2b0fe9d", "SHA-512 of certificates, with a time of revocation"},
     {"3c5766e8-269c-4e34-aa14-ed776e85b3b6", "RSA-2048 keys"}}};

Field field(std::string name, std::uint64_t at, std::span<const std::uint8_t> raw, std::string value,
            std::string meaning = {}) {
    return {std::move(name), at, raw.size(), std::move(value), std::move(meaning), {raw.begin(), raw.end()}};
}

std::string attributes_text(std::uint32_t attributes) {
    static constexpr std::pair<std::uint32_t, std::string_view> names[] = {{1, "non-volatile"},
                                                                           {2, "boot services"},
                                                                           {4, "run time"},
                                                                           {0x10, "authenticated by count"},
                                                                           {0x20, "authenticated by time"},
                                                                           {0x40, "append"}};
    std::vector<std::string_view> out;
    for (const auto& [bit, name] : names)
        if ((attributes & bit) != 0) out.push_back(name);
    return fmt::format("{}", fmt::join(out, ", "));
}

void option_fields(std::span<const std::uint8_t> data, std::vector<Field>& out) {
    if (data.size() < sizeof(ondisk::LoadOptionHead)) return;
    const auto head = ondisk::from_bytes<ondisk::LoadOptionHead>(data);
    out = ondisk::annotate(head);
    const std::uint32_t attributes = head.attributes;
    out.front().meaning = fmt::format(
        "{}{}{}", (attributes & 1U) != 0 ? "active" : "not active", (attributes & 8U) != 0 ? ", hidden" : "",
        (attributes & 0x1F00U) == 0x100 ? ", an application that is not tried by itself" : "");
    std::size_t at = sizeof(head);
    const std::string title = printable(utf8_from(units_from(data.subspan(at), false, true)));
    while (at + 2 <= data.size() && (data[at] != 0 || data[at + 1] != 0)) at += 2;
    at = std::min(at + 2, data.size());
    out.push_back(field("description", sizeof(head), data.subspan(sizeof(head), at - sizeof(head)), title));
    const std::size_t length = std::min<std::size_t>(head.path_length, data.size() - at);
    auto path = annotate_device_path(data.subspan(at, length), at);
    out.insert(out.end(), path.begin(), path.end());
    if (length < head.path_length)
        out.back().meaning += fmt::format(" (the path should have {} bytes)", std::uint16_t{head.path_length});
    at += length;
    if (at == data.size()) return;
    const auto rest = data.subspan(at);
    const std::string text = load_option_text(rest);
    out.push_back(field("optional_data", at, rest,
                        text.empty() ? hex(rest.first(std::min<std::size_t>(rest.size(), 16))) : "“" + text + "”",
                        "given to the application"));
}

std::string entry_text(std::string_view kind, std::span<const std::uint8_t> data) {
    if (kind.starts_with("X.509")) {
        SignatureDatabase one;
        one.certificates.emplace_back(data.begin(), data.end());
        const auto info = database_certificates(one).front();
        return info.subject.empty()
                   ? "no certificate that can be read"
                   : fmt::format("{}, by {}, {} to {}", info.subject, info.issuer, info.not_before, info.not_after);
    }
    if (kind.find("certificates") != std::string_view::npos && data.size() > 16) {
        const auto from = efi_time_seconds(data.last(16));
        return from ? "revoked from " + utc_text(*from) + " on" : "revoked for all times";
    }
    return {};
}

void list_fields(std::span<const std::uint8_t> data, std::vector<Field>& out) {
    std::size_t number = 0;
    for (std::size_t at = 0; at + sizeof(ondisk::SignatureListHead) <= data.size() && out.size() < most_signatures;) {
        const auto head = ondisk::from_bytes<ondisk::SignatureListHead>(data, at);
        const std::string prefix = fmt::format("list {}.", ++number);
        auto own = ondisk::annotate(head, at, prefix);
        const std::string type = ondisk::guid_at(head.type, 0);
        const auto* kind = std::ranges::find(kinds, type, &ListKind::type);
        const std::string_view name = kind != kinds.end() ? kind->name : "a kind that firmware does not know";
        own.front().value = type;
        own.front().meaning = name;
        const std::size_t size = head.list_size;
        const std::size_t each = head.signature_size;
        const std::size_t extra = head.header_size;
        const bool fits =
            size >= sizeof(head) && size <= data.size() - at && each >= 17 && extra <= size - sizeof(head);
        if (!fits) own.at(1).meaning = fmt::format("does not fit: {} bytes are left", data.size() - at);
        out.insert(out.end(), own.begin(), own.end());
        if (!fits) return;
        std::size_t count = 0;
        for (std::size_t i = at + sizeof(head) + extra; i + each <= at + size && out.size() < most_signatures;
             i += each) {
            const std::string one = fmt::format("{}{}.", prefix, ++count);
            out.push_back(field(one + "owner", i, data.subspan(i, 16), ondisk::guid_at(data, i)));
            const auto body = data.subspan(i + 16, each - 16);
            out.push_back(field(one + "data", i + 16, body,
                                body.size() <= 80 ? hex(body, "") : fmt::format("{} bytes", body.size()),
                                entry_text(name, body)));
        }
        at += size;
    }
}

bool option_name(std::string_view name) {
    for (const std::string_view lead : {"Boot", "Driver", "SysPrep", "PlatformRecovery"})
        if (name.starts_with(lead) && name.size() == lead.size() + 4 &&
            name.substr(lead.size()).find_first_not_of("0123456789ABCDEFabcdef") == std::string_view::npos)
            return true;
    return false;
}

bool list_name(std::string_view name) {
    static constexpr std::array<std::string_view, 14> names = {
        "PK",         "KEK",       "db",         "dbx",     "dbt",      "dbr",       "PKDefault",
        "KEKDefault", "dbDefault", "dbxDefault", "MokList", "MokListX", "MokListRT", "MokListXRT"};
    return std::ranges::find(names, name) != names.end();
}

}  // namespace

std::string load_option_text(std::span<const std::uint8_t> data) {
    if (data.size() < 2 || data.size() % 2 != 0) return {};
    const auto units = units_from(data, false, true);
    // Bytes that are no text stay bytes.
    if (units.empty() || std::ranges::any_of(units, [](char16_t c) { return c < 0x20 || c >= 0xD800; })) return {};
    return printable(utf8_from(units));
}

VariableView view_variable(const UefiVariable& variable) {
    VariableView out;
    const std::span<const std::uint8_t> data(variable.data);
    out.attributes = attributes_text(variable.attributes);
    if (option_name(variable.name)) {
        out.kind = "load option";
        option_fields(data, out.fields);
    } else if (list_name(variable.name)) {
        out.kind = "signature lists";
        list_fields(data, out.fields);
    } else if (variable.name.ends_with("Order") || variable.name == "BootNext" || variable.name == "BootCurrent") {
        out.kind = "numbers of load options";
        const std::string_view what = variable.name.starts_with("Driver")    ? "Driver"
                                      : variable.name.starts_with("SysPrep") ? "SysPrep"
                                                                             : "Boot";
        for (std::size_t i = 0; i + 2 <= data.size(); i += 2)
            out.fields.push_back(field(
                fmt::format("[{}]", i / 2), i, data.subspan(i, 2),
                fmt::format("{}{:04X}", what, std::uint16_t{ondisk::from_bytes<ondisk::little_uint16_t>(data, i)})));
    } else if (variable.name.starts_with("Con") || variable.name == "ErrOut") {
        out.kind = "device path";
        out.fields = annotate_device_path(data);
    } else if (data.size() == 1 || data.size() == 2 || data.size() == 4) {
        std::uint32_t value = 0;
        for (std::size_t i = data.size(); i-- > 0;) value = value << 8U | data[i];
        out.kind = "number";
        out.fields.push_back(field("value", 0, data, fmt::format("{} (0x{:x})", value, value)));
    }
    return out;
}

}  // namespace herberge
