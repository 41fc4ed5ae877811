// SPDX-License-Identifier: MIT
// Headers of LUKS 1 and 2.
#include "unlock/luks_header.hpp"

#include <fmt/format.h>
#include <algorithm>
#include <array>
#include <charconv>
#include <nlohmann/json.hpp>

#include "files/stored.hpp"
#include "ondisk/luks.hpp"
#include "unlock/ciphers.hpp"

namespace herberge::luks {

namespace {

using nlohmann::json;
using stored::begins;
using stored::fixed_text;

constexpr std::uint64_t sector = 512;
constexpr std::uint64_t most_header = std::uint64_t{4} << 20U;
constexpr std::uint64_t most_area = std::uint64_t{16} << 20U;
constexpr std::size_t most_key = 512;
constexpr int most_slots = 32;
constexpr int most_depth = 16;

std::string_view mark_of(bool copy) { return copy ? "SKUL\xBA\xBE" : "LUKS\xBA\xBE"; }

// --- version 1 -------------------------------------------------------------------------------------------------------

constexpr std::uint32_t in_use = 0x00AC71F3;

/// The checks of cryptsetup's LUKS_check_keyslots, on slots that are free as well: one wrong one makes the whole header
/// invalid. A state that is neither in use nor free counts as free.
Result<std::vector<Slot>> read_slots(const ByteSource& volume, const ondisk::Luks1Header& header,
                                     const std::string& cipher) {
    constexpr std::uint32_t right_stripes = 4000;
    std::vector<Slot> out;
    std::vector<std::pair<std::uint64_t, int>> begins_at;
    const std::uint64_t sectors = (std::uint64_t{right_stripes} * header.key_bytes + sector - 1) / sector;
    const auto invalid = [&](int number, std::string what, std::string expected, std::string found) {
        return fail(ErrorKind::Malformed, fmt::format("key slot {} {}", number, what), volume.place(),
                    std::move(expected), std::move(found));
    };
    for (int number = 0; number < 8; ++number) {
        const auto stored = volume.load<ondisk::Luks1Slot>(sizeof(header) + static_cast<std::uint64_t>(number) *
                                                                                sizeof(ondisk::Luks1Slot));
        if (!stored) return tl::unexpected(stored.error());
        const std::uint64_t at = stored->material_sector;
        if (stored->stripes != right_stripes)
            return invalid(number, "has a wrong number of stripes", fmt::format("{}", right_stripes),
                           fmt::format("{}", std::uint32_t{stored->stripes}));
        if (at * sector < sizeof(header) + 8 * sizeof(ondisk::Luks1Slot) ||
            (header.payload_sector != 0 && at + sectors > header.payload_sector))
            return invalid(number, "has its key material outside its room",
                           fmt::format("before sector {}", std::uint32_t{header.payload_sector}),
                           fmt::format("sectors {} to {}", at, at + sectors - 1));
        begins_at.emplace_back(at, number);
        if (stored->state != in_use) continue;
        Slot slot;
        slot.told.number = number;
        slot.derivation_hash = slot.stripes_hash = fixed_text(header.hash);
        slot.told.derivation = "pbkdf2-" + slot.derivation_hash;
        slot.told.rounds = stored->iterations;
        slot.told.cipher = cipher;
        slot.told.offset = at * sector;
        slot.told.size = std::uint64_t{right_stripes} * header.key_bytes;
        slot.salt.assign(stored->salt.begin(), stored->salt.end());
        slot.stripes = right_stripes;
        slot.area_key_bytes = slot.key_bytes = header.key_bytes;
        out.push_back(std::move(slot));
    }
    std::ranges::sort(begins_at);
    for (std::size_t i = 1; i < begins_at.size(); ++i)
        if (begins_at[i - 1].first + sectors > begins_at[i].first)
            return invalid(begins_at[i].second, "overlaps another one", "apart",
                           fmt::format("sector {}", begins_at[i].first));
    return out;
}

Result<Header> read_version_1(const ByteSource& volume) {
    const auto header = volume.load<ondisk::Luks1Header>(0);
    if (!header) return tl::unexpected(header.error());
    Header out;
    auto& told = out.told;
    told.version = 1;
    told.uuid = fixed_text(header->uuid);
    told.cipher = fixed_text(header->cipher) + "-" + fixed_text(header->mode);
    told.key_bytes = header->key_bytes;
    told.data_offset = header->payload_sector * sector;
    const std::string hash = fixed_text(header->hash);
    if (ciphers::digest_size(hash) < header->digest.size())
        return fail(ErrorKind::Malformed, "the header's hash is not known", volume.place(), "sha256 or another one",
                    printable(hash));
    if (told.key_bytes == 0 || told.key_bytes > most_key)
        return fail(ErrorKind::Malformed, "the header's key has a length that is none", volume.place(),
                    fmt::format("1 to {} bytes", most_key), fmt::format("{}", told.key_bytes));
    out.digest = {hash, header->digest_iterations, {}, {}, {}};
    out.digest.salt.assign(header->digest_salt.begin(), header->digest_salt.end());
    out.digest.value.assign(header->digest.begin(), header->digest.end());
    auto slots = read_slots(volume, *header, told.cipher);
    if (!slots) return tl::unexpected(slots.error());
    out.slots = std::move(*slots);
    if (told.data_offset == 0)
        told.beyond = Error{ErrorKind::Unsupported, "its header lies apart from its content", volume.place(), {}, {}};
    return out;
}

// --- version 2 -------------------------------------------------------------------------------------------------------

/// A copy of the header with its text, checked.
struct Copy {
    ondisk::Luks2Header header;
    json text;
};

/// Reads numbers that the text writes as strings (section 3: 64-bit numbers are strings).
std::optional<std::uint64_t> number(const json& object, const char* name) {
    const auto found = object.find(name);
    if (found == object.end()) return std::nullopt;
    if (found->is_number_unsigned()) return found->get<std::uint64_t>();
    if (!found->is_string()) return std::nullopt;
    const auto& text = found->get_ref<const std::string&>();
    std::uint64_t value = 0;
    const auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), value);
    if (text.empty() || error != std::errc{} || end != text.data() + text.size()) return std::nullopt;
    return value;
}
std::string text(const json& object, const char* name) {
    const auto found = object.find(name);
    return found != object.end() && found->is_string() ? printable(found->get<std::string>()) : std::string{};
}
const json& part(const json& object, const char* name) {
    static const json none = json::object();
    const auto found = object.find(name);
    return found != object.end() && found->is_object() ? *found : none;
}
std::vector<int> slot_numbers(const json& object, const char* name) {
    std::vector<int> out;
    const auto found = object.find(name);
    if (found == object.end() || !found->is_array()) return out;
    for (const auto& one : *found) {
        int value = 0;
        if (!one.is_string() || out.size() >= most_slots) continue;
        const auto& digits = one.get_ref<const std::string&>();
        if (std::from_chars(digits.data(), digits.data() + digits.size(), value).ec == std::errc{})
            out.push_back(value);
    }
    return out;
}
std::vector<std::uint8_t> base64(const json& object, const char* name) {
    std::vector<std::uint8_t> out;
    const auto found = object.find(name);
    if (found == object.end() || !found->is_string()) return out;
    constexpr std::string_view digits = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/";
    std::uint32_t bits = 0;
    int held = 0;
    for (const char c : found->get_ref<const std::string&>()) {
        const auto value = digits.find(c);
        if (value == std::string_view::npos) break;
        bits = bits << 6U | static_cast<std::uint32_t>(value);
        held += 6;
        if (held >= 8) {
            held -= 8;
            out.push_back(static_cast<std::uint8_t>(bits >> static_cast<unsigned>(held)));
        }
    }
    return out;
}

Result<Copy> read_copy(const ByteSource& volume, std::uint64_t at, bool second) {
    const std::string place = fmt::format("{}@{}", volume.place(), at);
    const auto header = volume.load<ondisk::Luks2Header>(at);
    if (!header) return tl::unexpected(header.error());
    if (!begins(header->magic, mark_of(second)))
        return fail(ErrorKind::NotFound, "there is no header", place, std::string(mark_of(second).substr(0, 4)),
                    hex(header->magic));
    if (header->version != 2)
        return fail(ErrorKind::Unsupported, fmt::format("version {} is not known", std::uint16_t{header->version}),
                    place);
    if (header->size < 16384 || header->size > most_header || header->offset != at)
        return fail(ErrorKind::Malformed, "the header's own place or size is wrong", place,
                    fmt::format("at {}, 16384 to {} bytes", at, most_header),
                    fmt::format("at {}, {} bytes", std::uint64_t{header->offset}, std::uint64_t{header->size}));
    auto bytes = volume.bytes(at, header->size, most_header);
    if (!bytes) return tl::unexpected(bytes.error());
    constexpr std::size_t sum_at = offsetof(ondisk::Luks2Header, checksum);
    std::fill_n(bytes->begin() + sum_at, header->checksum.size(), std::uint8_t{0});
    const auto sum = ciphers::digest(fixed_text(header->checksum_kind), {*bytes});
    const auto stored = std::span(header->checksum).first(std::min(sum.size(), header->checksum.size()));
    if (sum.empty() || !std::ranges::equal(sum, stored))
        return fail(ErrorKind::Checksum, "the header fails its checksum", place, hex(stored, "").substr(0, 16),
                    hex(sum, "").substr(0, 16));
    constexpr std::size_t text_at = 4096;
    const auto begin = bytes->begin() + text_at;
    const std::string written(begin, std::find(begin, bytes->end(), std::uint8_t{0}));
    bool deep = false;
    auto parsed = json::parse(
        written,
        [&](int depth, json::parse_event_t, const json&) {
            deep = deep || depth > most_depth;
            return depth <= most_depth;
        },
        false);
    if (parsed.is_discarded() || deep || !parsed.is_object())
        return fail(ErrorKind::Malformed, "the header's text is no JSON object", place);
    for (const char* wanted : {"keyslots", "segments", "digests", "config"})
        if (const auto found = parsed.find(wanted); found == parsed.end() || !found->is_object())
            return fail(ErrorKind::Malformed, fmt::format("the header's text has no {}", wanted), place);
    return Copy{*header, std::move(parsed)};
}

/// The one that counts: whole, and with the higher sequence number (section 2.2). What is wrong with the other one goes
/// to `findings`.
Result<Copy> choose_copy(const ByteSource& volume, std::vector<Finding>& findings) {
    auto first = read_copy(volume, 0, false);
    const auto damaged = [&](const char* which, const char* other, const Error& why) {
        findings.push_back(make_finding(Code::LuksHeaderCopy,
                                        fmt::format("the {} header of {} cannot be used ({}); its {} serves", which,
                                                    volume.place(), why.what, other),
                                        {evidence_error(why)}));
    };
    if (first) {
        auto second = read_copy(volume, first->header.size, true);
        if (!second) damaged("second", "first one", second.error());
        else if (second->header.sequence > first->header.sequence) return second;
        return first;
    }
    for (const std::uint64_t at : ondisk::luks2_copy_places) {
        auto second = read_copy(volume, at, true);
        if (!second) continue;
        damaged("first", "second one", first.error());
        return second;
    }
    return tl::unexpected(first.error());
}

void take_segment(const json& segments, const ByteSource& volume, Header& out) {
    auto& told = out.told;
    const auto beyond = [&](std::string what) {
        if (!told.beyond) told.beyond = Error{ErrorKind::Unsupported, std::move(what), volume.place(), {}, {}};
    };
    const auto& segment = part(segments, "0");
    if (segments.size() != 1 || text(segment, "type") != "crypt")
        return beyond(segments.size() > 1 ? "it is being enciphered anew" : "its content is not enciphered as a whole");
    told.cipher = text(segment, "encryption");
    told.data_offset = number(segment, "offset").value_or(0);
    told.sector = number(segment, "sector_size").value_or(512);
    told.first_number = number(segment, "iv_tweak").value_or(0);
    if (text(segment, "size") != "dynamic") told.data_size = number(segment, "size").value_or(0);
    if (segment.contains("integrity")) return beyond("its sectors carry proofs that they are unchanged (dm-integrity)");
    if (told.sector != 512 && told.sector != 1024 && told.sector != 2048 && told.sector != 4096)
        return beyond(fmt::format("sectors of {} bytes", told.sector));
}

void take_slots(const json& slots, const ByteSource& volume, Header& out) {
    for (const auto& [name, slot] : slots.items()) {
        if (out.slots.size() >= most_slots || !slot.is_object()) continue;
        const std::string type = text(slot, "type");
        if (type == "reencrypt") continue;
        Slot one;
        std::from_chars(name.data(), name.data() + name.size(), one.told.number);
        if (type != "luks2") {
            // Whoever knows this kind may open it.
            one.told.derivation = type;
            out.slots.push_back(std::move(one));
            continue;
        }
        const auto& kdf = part(slot, "kdf");
        const auto& area = part(slot, "area");
        const auto& splitter = part(slot, "af");
        const std::string kind = text(kdf, "type");
        one.derivation_hash = text(kdf, "hash");
        one.told.derivation = kind == "pbkdf2" ? "pbkdf2-" + one.derivation_hash : kind;
        one.told.rounds = number(kdf, kind == "pbkdf2" ? "iterations" : "time").value_or(0);
        one.told.memory = number(kdf, "memory").value_or(0);
        one.told.lanes = number(kdf, "cpus").value_or(0);
        one.salt = base64(kdf, "salt");
        one.told.cipher = text(area, "encryption");
        one.told.offset = number(area, "offset").value_or(0);
        one.told.size = number(area, "size").value_or(0);
        one.area_key_bytes = number(area, "key_size").value_or(0);
        one.key_bytes = number(slot, "key_size").value_or(0);
        one.stripes = number(splitter, "stripes").value_or(0);
        one.stripes_hash = text(splitter, "hash");
        const std::uint64_t size = volume.size();
        if (one.key_bytes == 0 || one.key_bytes > most_key || one.stripes == 0 ||
            one.stripes > most_area / one.key_bytes || one.told.size < one.key_bytes * one.stripes ||
            one.told.size > size || one.told.offset > size - one.told.size)
            one.told.problem =
                Error{ErrorKind::Malformed, fmt::format("the area of key slot {} does not fit", one.told.number),
                      volume.place(), fmt::format("{} bytes inside the volume", one.key_bytes * one.stripes),
                      fmt::format("{} bytes at byte {}", one.told.size, one.told.offset)};
        else one.told.size = one.key_bytes * one.stripes;
        out.slots.push_back(std::move(one));
    }
    std::ranges::sort(out.slots, {}, [](const Slot& s) { return s.told.number; });
}

Result<Header> read_version_2(const ByteSource& volume) {
    Header out;
    const auto copy = choose_copy(volume, out.told.findings);
    if (!copy) return tl::unexpected(copy.error());
    out.told.version = 2;
    out.told.uuid = fixed_text(copy->header.uuid);
    out.told.label = fixed_text(copy->header.label);
    take_segment(part(copy->text, "segments"), volume, out);
    // The digest of the content's segment; slots that are bound to another one open something else.
    for (const auto& [name, one] : part(copy->text, "digests").items()) {
        const auto of = slot_numbers(one, "segments");
        if (!one.is_object() || std::ranges::find(of, 0) == of.end()) continue;
        if (text(one, "type") != "pbkdf2") continue;
        out.digest = {text(one, "hash"), number(one, "iterations").value_or(0), base64(one, "salt"),
                      base64(one, "digest"), slot_numbers(one, "keyslots")};
        break;
    }
    if (out.digest.value.empty() && !out.told.beyond)
        out.told.beyond = Error{
            ErrorKind::Unsupported, "its key is recognised by a digest that is not known", volume.place(), {}, {}};
    take_slots(part(copy->text, "keyslots"), volume, out);
    std::erase_if(out.slots, [&](const Slot& slot) {
        return std::ranges::find(out.digest.slots, slot.told.number) == out.digest.slots.end();
    });
    if (!out.slots.empty()) out.told.key_bytes = out.slots.front().key_bytes;
    return out;
}

}  // namespace

Result<Header> read_header(const ByteSource& volume) {
    const auto first = volume.load<ondisk::Luks1Header>(0);
    if (!first) return tl::unexpected(first.error());
    const bool older = begins(first->magic, mark_of(false)) && first->version == 1;
    auto out = older ? read_version_1(volume) : read_version_2(volume);
    if (!out) return out;
    const auto& told = out->told;
    if (!told.beyond && (told.data_offset % sector != 0 || told.data_offset >= volume.size()))
        return fail(ErrorKind::Malformed, "its content begins where the volume has ended", volume.place(),
                    fmt::format("before byte {}", volume.size()), fmt::format("at byte {}", told.data_offset));
    return out;
}

void judge_area(const ByteSource& volume, KeySlot& slot) {
    if (slot.problem) return;
    const auto bytes = volume.bytes(slot.offset, slot.size, most_area);
    if (!bytes) {
        slot.problem = bytes.error();
        return;
    }
    // 512 random bytes have about 221 different values; fewer than 150 do not happen.
    constexpr std::size_t least_values = 150;
    for (std::size_t at = 0; at + sector <= bytes->size(); at += sector) {
        std::array<bool, 256> seen{};
        for (std::size_t i = 0; i < sector; ++i) seen[(*bytes)[at + i]] = true;
        if (static_cast<std::size_t>(std::ranges::count(seen, true)) >= least_values) continue;
        slot.overwritten = slot.offset + at;
        slot.problem =
            Error{ErrorKind::Malformed,
                  fmt::format("the area of key slot {} was overwritten at byte {}", slot.number, *slot.overwritten),
                  volume.place(),
                  {},
                  {}};
        return;
    }
}

}  // namespace herberge::luks

namespace herberge {

Result<LuksDescription> describe_luks(const ByteSource& volume, bool slots) {
    auto header = luks::read_header(volume);
    if (!header) return tl::unexpected(header.error());
    auto out = std::move(header->told);
    for (auto& slot : header->slots) {
        if (slots) luks::judge_area(volume, slot.told);
        out.slots.push_back(std::move(slot.told));
    }
    return out;
}

}  // namespace herberge
