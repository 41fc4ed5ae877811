// SPDX-License-Identifier: MIT
// What a BitLocker volume says of itself; its content is not opened here.
#include <fmt/format.h>
#include <algorithm>

#include <herberge/unlock.hpp>

#include "ondisk/bitlocker.hpp"

namespace herberge {

namespace {

constexpr std::uint64_t pointer_at = 160;
constexpr std::size_t most_metadata = std::size_t{1} << 16U;  // the systems keep 64 KiB for each copy

std::string cipher_name(unsigned number) {
    switch (number) {
        case 0x8000: return "AES-CBC with diffuser, 128 bits";
        case 0x8001: return "AES-CBC with diffuser, 256 bits";
        case 0x8002: return "AES-CBC, 128 bits";
        case 0x8003: return "AES-CBC, 256 bits";
        case 0x8004: return "AES-XTS, 128 bits";
        case 0x8005: return "AES-XTS, 256 bits";
        default: return fmt::format("cipher {:04x}", number);
    }
}

KeyProtector protector_of(const ondisk::BitlockerProtector& told) {
    KeyProtector out{guid_text(told.id), {}, false};
    switch (told.kind) {
        case 0x0000:
            // Protection is suspended: the key lies open in the metadata.
            out.kind = "a key that lies open beside it (protection is suspended)";
            out.opens_by_itself = true;
            break;
        case 0x0100:
            out.kind = "this machine's TPM";
            out.opens_by_itself = true;
            break;
        case 0x0200: out.kind = "a start-up key on another medium"; break;
        case 0x0300: out.kind = "TPM and start-up key"; break;
        case 0x0500: out.kind = "TPM and PIN"; break;
        case 0x0800: out.kind = "a recovery password"; break;
        case 0x2000: out.kind = "a password"; break;
        default: out.kind = fmt::format("protector {:04x}", static_cast<unsigned>(told.kind)); break;
    }
    return out;
}

/// One copy of the metadata.
Result<BitlockerDescription> read_copy(const ByteSource& volume, std::uint64_t at) {
    const auto bad = [&](std::string what) {
        return fail(ErrorKind::Malformed, std::move(what), fmt::format("{}@{}+64", volume.place(), at));
    };
    const auto block = volume.load<ondisk::BitlockerBlock>(at);
    if (!block) return tl::unexpected(block.error());
    static constexpr std::string_view mark = "-FVE-FS-";
    if (!std::ranges::equal(block->mark, mark, {}, {}, [](char c) { return static_cast<std::uint8_t>(c); }))
        return bad("no metadata of BitLocker stands here");
    if (block->version != 2)
        return fail(ErrorKind::Unsupported,
                    fmt::format("metadata of BitLocker, version {}, which is not read here",
                                static_cast<unsigned>(block->version)),
                    fmt::format("{}@{}+64", volume.place(), at));
    const auto head = volume.load<ondisk::BitlockerHead>(at + sizeof(*block));
    if (!head) return tl::unexpected(head.error());
    if (head->head_size != sizeof(*head) || head->size < sizeof(*head) || head->size > most_metadata)
        return bad("the metadata of BitLocker contradicts itself");
    const auto bytes = volume.bytes(at + sizeof(*block), head->size);
    if (!bytes) return tl::unexpected(bytes.error());
    BitlockerDescription out;
    out.id = guid_text(head->volume);
    out.cipher = cipher_name(head->cipher);
    out.encrypted_bytes = block->encrypted_bytes;
    for (std::size_t place = sizeof(*head); place + sizeof(ondisk::BitlockerEntry) <= bytes->size();) {
        const auto entry = ondisk::from_bytes<ondisk::BitlockerEntry>(*bytes, place);
        if (entry.size == 0) break;
        if (entry.size < sizeof(entry) || entry.size > bytes->size() - place)
            return bad("an entry in the metadata of BitLocker is damaged");
        constexpr unsigned protector = 2;
        constexpr unsigned volume_key = 8;
        if (entry.type == protector && entry.value == volume_key &&
            entry.size >= sizeof(entry) + sizeof(ondisk::BitlockerProtector))
            out.protectors.push_back(
                protector_of(ondisk::from_bytes<ondisk::BitlockerProtector>(*bytes, place + sizeof(entry))));
        place += entry.size;
    }
    return out;
}

}  // namespace

Result<BitlockerDescription> describe_bitlocker(const ByteSource& volume) {
    const auto pointer = volume.load<ondisk::BitlockerPointer>(pointer_at);
    if (!pointer) return tl::unexpected(pointer.error());
    if (guid_text(pointer->mark) != "4967d63b-2e29-4ad8-8399-f6a339e3d001")
        return fail(ErrorKind::Unsupported, "a BitLocker volume of a kind that is not read here",
                    fmt::format("{}@{}+16", volume.place(), pointer_at));
    std::optional<BitlockerDescription> out;
    std::vector<Error> problems;
    for (const std::uint64_t at : pointer->metadata) {
        auto copy = read_copy(volume, at);
        if (!copy) problems.push_back(copy.error());
        else if (!out) out = std::move(*copy);
    }
    if (!out) return tl::unexpected(problems.front());
    out->damaged_copies = std::move(problems);
    return std::move(*out);
}

}  // namespace herberge
