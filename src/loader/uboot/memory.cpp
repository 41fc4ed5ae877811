// SPDX-License-Identifier: MIT
// What lies in memory, and the commands that change it (cmd/mem.c, cmd/unzip.c, cmd/lzmadec.c, cmd/unlz4.c,
// cmd/ximg.c of 2023.01).
#include <fmt/format.h>
#include <fmt/ranges.h>
#include <openssl/evp.h>
#include <algorithm>

#include <herberge/budget.hpp>

#include "artifact/boot_image.hpp"
#include "loader/uboot/console.hpp"

namespace herberge::loader::uboot {

namespace {

constexpr std::uint64_t most_made = std::uint64_t{1} << 20U;        ///< bytes that a command makes
constexpr int most_layers = 64;                                     ///< each is a step of every read
constexpr std::uint64_t most_unpacked = std::uint64_t{128} << 20U;  ///< bytes that a command unpacks

std::string end_of(const std::string& word) {
    const auto dot = word.find('.');
    return dot == std::string::npos ? std::string{} : word.substr(dot + 1);
}

}  // namespace

unsigned width_of(const std::string& command) {
    const auto end = end_of(command);
    return end == "b" ? 1U : end == "w" ? 2U : end == "q" ? 8U : 4U;
}

FileReference part_of(const Loaded& held, std::uint64_t offset, std::uint64_t length) {
    FileReference out = held.file;
    out.part = {held.file.part ? held.file.part->first + offset : offset, length};
    out.size = length;
    return out;
}

Loaded moved(const Loaded& held, std::uint64_t offset, std::uint64_t length, std::uint64_t address) {
    Loaded out = held;
    out.address = address;
    if (offset == 0 && length == held.size) return out;
    out.size = length;
    out.file = part_of(held, offset, length);
    out.bytes = slice(held.bytes, offset, length, held.bytes->place());
    ++out.layers;
    return out;
}

Loaded remade(const Loaded& held, std::vector<std::uint8_t> bytes, std::string place) {
    Loaded out = held;
    out.size = out.file.size = bytes.size();
    out.file.part.reset();
    out.file.place = std::move(place);
    out.file.bytes = out.bytes = memory_source(std::move(bytes), out.file.place);
    out.layers = 0;
    return out;
}

void Console::missing(std::uint64_t address, Finding why) {
    not_loaded_.insert_or_assign(address, Trouble{std::move(why), std::nullopt, {}});
}

/// What was loaded last lies on top.
const Loaded* Console::at(std::uint64_t address) const {
    for (auto one = memory_.rbegin(); one != memory_.rend(); ++one)
        if (address >= one->address && address - one->address < std::max<std::uint64_t>(one->size, 1)) return &*one;
    return nullptr;
}

std::vector<std::uint8_t> Console::peek(std::uint64_t address, std::uint64_t most) const {
    std::vector<std::uint8_t> out;
    while (out.size() < std::min(most, most_made)) {
        const std::uint64_t here = address + out.size();
        const Loaded* top = at(here);
        if (top == nullptr || here - top->address >= top->size) break;
        std::uint64_t length = std::min(top->address + top->size - here, std::min(most, most_made) - out.size());
        // Up to where something else lies over it.
        for (const Loaded* one = top + 1; one < memory_.data() + memory_.size(); ++one)
            if (one->address > here) length = std::min(length, one->address - here);
        const auto bytes = top->bytes->bytes(here - top->address, length, most_made);
        if (!bytes) break;
        out.insert(out.end(), bytes->begin(), bytes->end());
    }
    return out;
}

void Console::put(Loaded held) {
    constexpr std::size_t most_files = 256;
    if (held.layers > most_layers)
        return forget(held.address, "its commands copy and change it more often than is followed");
    not_loaded_.erase(held.address);
    std::erase_if(memory_, [&](const Loaded& one) { return one.address == held.address && one.size <= held.size; });
    for (auto& one : memory_)
        if (one.address < held.address + held.size && held.address < one.address + one.size &&
            one.overwritten_by.empty())
            one.overwritten_by = held.file.place;
    if (memory_.size() < most_files) memory_.push_back(std::move(held));
}

void Console::put(std::uint64_t address, std::vector<std::uint8_t> bytes, const std::string& made_by) {
    if (!charge(Cost::Kept, bytes.size(), made_by))
        return forget(address, "its commands fill more memory than is kept");
    // A few bytes in the midst of a file leave it a file.
    for (auto& one : memory_) {
        if (address < one.address || address - one.address + bytes.size() > one.size) continue;
        if (one.layers >= most_layers) return forget(one.address, "its commands change it more often than is followed");
        const auto changed = overlay(one.bytes);
        if (!changed->write(address - one.address, bytes)) continue;
        const auto name = fmt::format(", changed by {}", made_by);
        if (one.layers == 0 || !one.file.place.ends_with(name)) one.file.place += name;
        ++one.layers;
        one.file.part.reset();
        one.file.size = one.size;
        one.file.bytes = one.bytes = changed;
        return;
    }
    Loaded held;
    held.address = address;
    held.size = bytes.size();
    held.file.written = held.file.place = fmt::format("memory at {:#x}, by {}", address, made_by);
    held.file.size = held.size;
    held.file.bytes = held.bytes = memory_source(std::move(bytes), held.file.place);
    put(std::move(held));
}

void Console::forget(std::uint64_t address, std::string blind) {
    std::erase_if(memory_, [&](const Loaded& one) { return one.address == address; });
    Trouble why;
    why.why = make_finding(Code::UbootCommandsEnd, fmt::format("what lies at {:#x} is not known: {}", address, blind),
                           {here(fmt::format("{:#x}", address))}, "(nothing)");
    why.blind = std::move(blind);
    not_loaded_.insert_or_assign(address, std::move(why));
}

std::string Console::blind_at(std::uint64_t address) const {
    if (const auto found = not_loaded_.find(address); found != not_loaded_.end()) return found->second.blind;
    return unfollowed_.empty()
               ? std::string{}
               : fmt::format("its commands use {}, which is not followed here", fmt::join(unfollowed_, ", "));
}

int Console::do_fill(const Words& words) {
    // mw address value [count]
    if (words.size() < 3) return 1;
    const auto address = number_of(words[1]);
    const auto what = number_of(words[2]);
    const auto count = words.size() > 3 ? number_of(words[3]) : std::optional<std::uint64_t>(1);
    const unsigned width = width_of(words[0]);
    if (!address || !what || !count) return 1;
    if (*count == 0) return 0;
    if (*count > most_made / width) {
        forget(*address, "its commands fill more memory than is followed");
        return 0;
    }
    std::vector<std::uint8_t> bytes(static_cast<std::size_t>(*count * width));
    for (std::size_t i = 0; i < bytes.size(); ++i) bytes[i] = static_cast<std::uint8_t>(*what >> (8U * (i % width)));
    put(*address, std::move(bytes), words[0]);
    return 0;
}

int Console::do_copy(const Words& words) {
    // cp source target count
    if (words.size() < 4) return 1;
    const auto from = number_of(words[1]);
    const auto to = number_of(words[2]);
    const auto count = number_of(words[3]);
    if (!from || !to || !count || *count == 0 || *count > (std::uint64_t{1} << 40U)) return 1;
    const std::uint64_t length = *count * width_of(words[0]);
    const Loaded* held = at(*from);
    if (held != nullptr && *from - held->address + length <= held->size && held->overwritten_by.empty()) {
        put(moved(*held, *from - held->address, length, *to));
        return 0;
    }
    auto known = peek(*from, length);
    if (known.size() < length) {
        const auto why = blind_at(*from);
        forget(*to, why.empty()
                        ? fmt::format("its commands copy it from {:#x}, where nothing that is known here lies", *from)
                        : why);
        return 0;
    }
    put(*to, std::move(known), words[0]);
    return 0;
}

/// crc32, md5sum, sha1sum, hash: what they print nobody reads; what they set may be compared.
int Console::do_checksum(const Words& words) {
    const bool named = words[0] == "hash";
    const std::size_t first = named ? 2 : 1;
    if (words.size() < first + 2) return 1;
    const std::string kind = named                 ? words[1]
                             : words[0] == "crc32" ? "crc32"
                                                   : words[0].substr(0, words[0].find("sum"));
    const auto address = number_of(words[first]);
    const auto length = number_of(words[first + 1]);
    if (!address || !length) return 1;
    if (*length == 0 && words.size() <= first + 2) return 0;
    const Loaded* held = at(*address);
    if (held == nullptr || *address - held->address + *length > held->size || *length > most_unpacked)
        return unfollowed(words[0]);
    const auto bytes = held->bytes->bytes(*address - held->address, *length, most_unpacked);
    if (!bytes) return unfollowed(words[0]);
    std::vector<std::uint8_t> digest;
    if (kind == "crc32") {
        const auto sum = crc32(0, *bytes);
        for (int shift = 24; shift >= 0; shift -= 8) digest.push_back(static_cast<std::uint8_t>(sum >> shift));
    } else {
        digest.resize(EVP_MAX_MD_SIZE);
        unsigned written = 0;
        const EVP_MD* method = EVP_get_digestbyname(kind.c_str());
        if (method == nullptr ||
            EVP_Digest(bytes->data(), bytes->size(), digest.data(), &written, method, nullptr) != 1)
            return named ? 1 : unfollowed(words[0]);
        digest.resize(written);
    }
    if (words.size() <= first + 2) return 0;
    std::string into = words[first + 2];
    if (into.starts_with('*')) into.erase(0, 1);
    else if (named) {
        set(into, hex(digest, ""));
        return 0;
    }
    if (const auto where = number_of(into)) put(*where, std::move(digest), words[0]);
    return 0;
}

int Console::do_unpack(const Words& words) {
    // unzip, lzmadec, unlz4 source target [size]
    if (words.size() < 3) return 1;
    const auto from = number_of(words[1]);
    const auto to = number_of(words[2]);
    const Loaded* held = from ? at(*from) : nullptr;
    if (!to || held == nullptr) {
        if (to) forget(*to, from ? blind_at(*from) : std::string{});
        return from && !blind_at(*from).empty() ? unfollowed(words[0]) : 1;
    }
    const auto kind = words[0] == "unzip"     ? Compression::Gzip
                      : words[0] == "lzmadec" ? Compression::Lzma
                                              : Compression::Lz4Frame;
    const std::uint64_t begin = *from - held->address;
    const auto done = unpack_to(*held, begin, held->size - begin, kind, *to);
    if (!done && done.error().kind == ErrorKind::OutOfRange) {
        // How long they are it is not told, and reads on in what lies behind.
        dead_ = true;
        Trouble why;
        why.blind = fmt::format("{} reads on behind {}, which is cut off", words[0], held->file.place);
        why.why =
            make_finding(Code::UbootCommandsEnd, fmt::format("how the commands go on is not known: {}", why.blind),
                         {evidence_error(done.error()), here(words[0])}, "(nothing)");
        troubles_.push_back(std::move(why));
    }
    return done ? 0 : 1;
}

/// Unpacks a part of what lies in memory to an address, and says so in the variable filesize.
Result<void> Console::unpack_to(const Loaded& held, std::uint64_t begin, std::uint64_t length, Compression kind,
                                std::uint64_t to) {
    const auto head = held.bytes->bytes(begin, std::min<std::uint64_t>(8, length));
    if (kind == Compression::Gzip && (!head || head->size() < 6 || recognise_compression(*head) != kind)) {
        say("Error: Bad gzipped data");
        return fail(ErrorKind::Malformed, "it is no gzip data", held.bytes->place());
    }
    std::vector<std::uint8_t> out;
    const auto done = unpack(kind, *held.bytes, begin, length, most_unpacked, [&](std::span<const std::uint8_t> more) {
        out.insert(out.end(), more.begin(), more.end());
        return charge(Cost::Kept, more.size(), held.bytes->place()).has_value();
    });
    if (!done) {
        if (done.error().kind == ErrorKind::TooLarge) (void)unfollowed("unzip");
        say(fmt::format("Error: {}", done.error().what));
        return tl::unexpected(done.error());
    }
    set("filesize", fmt::format("{:x}", out.size()));
    Loaded fresh = remade(held, std::move(out), held.file.place + " (unpacked)");
    fresh.address = to;
    put(std::move(fresh));
    return {};
}

/// imxtract: a part of an image to a place of its own, unpacked where the image says that it is packed.
int Console::do_extract(const Words& words) {
    if (words.size() < 3) return 1;
    const auto address = number_of(words[1]);
    const Loaded* held = address ? at(*address) : nullptr;
    if (held == nullptr) return address && !blind_at(*address).empty() ? unfollowed(words[0]) : 1;
    std::optional<std::pair<std::uint64_t, std::uint64_t>> part;
    auto packing = Compression::None;
    bool known = true;  // how it is packed
    if (const auto image = inspect_legacy_image(*held->bytes)) {
        const auto index = number_of(words[2]);
        if (!image->header_sound || (verifies() && !image->data_sound)) return 1;
        if (image->header.type != uboot_id::several && image->header.type != uboot_id::script) {
            say("Wrong Image Type for imxtract command");
            return 1;
        }
        const auto told = legacy_compression(image->header.compression);
        known = told.has_value();
        packing = told.value_or(Compression::None);
        if (index && *index < image->parts.size()) part = image->parts[static_cast<std::size_t>(*index)];
    } else if (const auto fit = Fit::open(held->bytes)) {
        const auto one = fit->image(words[2]);
        if (one && one->data_there &&
            (!verifies() || std::ranges::all_of(one->hashes, [](const auto& h) { return h.matches; })))
            part = {one->offset, one->length};
        if (one && one->compression == "gzip") packing = Compression::Gzip;
        else known = !one || one->compression.empty() || one->compression == "none";
    }
    if (!part) {
        say("Bad Image Part");
        return 1;
    }
    if (words.size() < 4) {
        if (!known || packing != Compression::None) {
            say("Must specify load address for imxtract command with compressed image");
            return 1;
        }
        set("fileaddr", fmt::format("{:x}", held->address + part->first));
        set("filesize", fmt::format("{:x}", part->second));
        return 0;
    }
    const auto to = number_of(words[3]);
    if (!to) return 1;
    if (packing == Compression::Gzip)
        return unpack_to(*held, part->first, part->second, Compression::Gzip, *to) ? 0 : 1;
    if (!known || packing != Compression::None) return unfollowed(words[0]);
    Loaded fresh = moved(*held, part->first, part->second, *to);
    set("fileaddr", fmt::format("{:x}", *to));
    set("filesize", fmt::format("{:x}", part->second));
    put(std::move(fresh));
    return 0;
}

/// iminfo: whether an image is whole.
int Console::do_image_info(const Words& words) {
    const auto address = number_of(words.size() > 1 ? words[1] : value("loadaddr"));
    const Loaded* held = address ? at(*address) : nullptr;
    if (held == nullptr) return address && !blind_at(*address).empty() ? unfollowed(words[0]) : 1;
    if (const auto image = inspect_legacy_image(*held->bytes)) return image->header_sound && image->data_sound ? 0 : 1;
    const auto fit = Fit::open(held->bytes);
    if (!fit || !fit->lacks().empty()) return 1;
    for (const auto& name : fit->images()) {
        const auto one = fit->image(name);
        if (!one || std::ranges::any_of(one->hashes, [](const auto& h) { return !h.matches; })) return 1;
    }
    return 0;
}

}  // namespace herberge::loader::uboot
