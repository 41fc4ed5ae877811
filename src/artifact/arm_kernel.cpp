// SPDX-License-Identifier: MIT
// Kernels of boards: the flat Image of arm64 and RISC-V (Linux Documentation/arch/arm64/booting.rst,
// arch/riscv/boot-image-header.rst), the zImage of 32-bit ARM (arch/arm/boot/compressed/head.S).
#include <fmt/format.h>
#include <algorithm>

#include "artifact/kernels.hpp"
#include "bytes/uniform.hpp"
#include "ondisk/pe.hpp"
#include "ondisk/uboot.hpp"

namespace herberge {

namespace {

constexpr std::uint64_t step = std::uint64_t{1} << 20U;
constexpr std::uint64_t most_unpacked = std::uint64_t{1} << 30U;
constexpr std::string_view banner = "Linux version ";

/// Looks for a text in pieces of bytes that follow each other.
class Seeker {
public:
    explicit Seeker(std::string_view words) : words_(words) {}
    /// True once it was found, and enough lies behind it.
    bool take(std::span<const std::uint8_t> bytes) {
        constexpr std::size_t behind = 256;
        window_.append(reinterpret_cast<const char*>(bytes.data()), bytes.size());
        const auto at = window_.find(words_);
        if (at != std::string::npos) {
            found_ = window_.substr(at, behind);
            if (window_.size() - at >= behind) return true;
            window_.erase(0, at);
            return false;
        }
        if (window_.size() > words_.size()) window_.erase(0, window_.size() - words_.size());
        return false;
    }
    /// The text and up to 256 bytes behind it; empty: not found.
    [[nodiscard]] const std::string& found() const { return found_; }

private:
    std::string_view words_;
    std::string window_, found_;
};

void take_version(const std::string& text, KernelImage& out) {
    if (text.size() <= banner.size()) return;
    out.version = text.substr(banner.size(), text.find_first_of(std::string_view("\n\0", 2)) - banner.size());
    out.release = out.version.substr(0, out.version.find(' '));
}

void tell(KernelImage& out, Soundness soundness, std::string text, Evidence evidence) {
    out.soundness = soundness;
    out.soundness_text = std::move(text);
    out.evidence.push_back(std::move(evidence));
}

/// The file size that the head of its EFI stub promises; none: it has none.
std::optional<std::uint64_t> promised_size(const ByteSource& file, std::uint32_t pe_at) {
    if (pe_at < 0x40 || pe_at > 0x1000) return std::nullopt;
    const auto head = file.load<ondisk::PeFileHeader>(pe_at);
    if (!head || !std::equal(head->mark.begin(), head->mark.end(), std::string_view("PE\0\0", 4).begin()))
        return std::nullopt;
    std::uint64_t out = 0;
    const std::uint64_t table = pe_at + sizeof(ondisk::PeFileHeader) + head->optional_size;
    for (unsigned i = 0; i < head->sections && i < 16; ++i) {
        const auto section = file.load<ondisk::PeSectionHeader>(table + i * sizeof(ondisk::PeSectionHeader));
        if (!section) return std::nullopt;
        out = std::max<std::uint64_t>(out, std::uint64_t{section->file_offset} + section->file_size);
    }
    return out != 0 ? std::optional(out) : std::nullopt;
}

/// Machine code has no whole pages of zeros: where the first third of an image behind its head has two in a row, it was
/// overwritten. None: it has not.
std::optional<std::uint64_t> blank_code(const ByteSource& file) {
    constexpr std::uint64_t head = 0x10000;
    constexpr std::uint64_t page = 4096;
    std::uint64_t run = 0;
    const std::uint64_t end = file.size() / 3;
    for (std::uint64_t at = head; at + page <= end; at += step) {
        const auto part = file.bytes(at, std::min(step, end - at));
        if (!part) return std::nullopt;
        for (std::uint64_t i = 0; i + page <= part->size(); i += page) {
            run = holds_only(std::span(*part).subspan(i, page), 0) ? run + 1 : 0;
            if (run == 2) return at + i - page;
        }
    }
    return std::nullopt;
}

}  // namespace

Result<KernelImage> inspect_flat_image(const ByteSource& file, KernelEntry /*entry*/) {
    const auto head = file.load<ondisk::Arm64Image>(0);
    if (!head) return tl::unexpected(head.error());
    KernelImage out;
    out.processor = head->magic[3] == 0x05 ? Processor::Riscv64 : Processor::Arm64;
    out.file_size = file.size();
    out.entry64 = true;
    const auto promised = promised_size(file, head->pe_at);
    out.efi_stub = promised.has_value();
    out.expected_size = promised.value_or(0);
    Seeker version(banner);
    for (std::uint64_t at = 0; at < file.size(); at += step) {
        const auto part = file.bytes(at, std::min(step, file.size() - at));
        if (!part) return tl::unexpected(part.error());
        if (version.take(*part)) break;
    }
    take_version(version.found(), out);
    if (promised && file.size() < *promised) {
        tell(out, Soundness::Cut, fmt::format("the kernel file is cut short by {}", size_text(*promised - file.size())),
             evidence_place(file.place(), fmt::format("{} bytes", *promised), fmt::format("{} bytes", file.size())));
        return out;
    }
    if (const auto blank = blank_code(file)) {
        tell(out, Soundness::Damaged, fmt::format("its code was overwritten with zeros from byte {} on", *blank),
             evidence_bytes(file, *blank, 8192, "instructions", "zeros"));
        return out;
    }
    tell(out, Soundness::Unknown,
         promised ? "as long as its own head says; its format carries no checksum"
                  : "its format carries neither a checksum nor its size",
         evidence_bytes(file, 0, sizeof(*head)));
    return out;
}

namespace {

/// The decoder in front of the packed kernel carries marks of its own: what begins at `at` must unpack for a while, or
/// have a head that is checked by itself (the .xz format, 2.1.1).
bool begins_packed(const ByteSource& file, std::uint64_t at, Compression kind) {
    if (kind == Compression::Xz) {
        const auto flags = file.bytes(at + 6, 2);
        const auto sum = file.load<ondisk::little_uint32_t>(at + 8);
        return flags && sum && crc32(0, *flags) == *sum;
    }
    constexpr std::uint64_t enough = 64U << 10U;
    std::uint64_t produced = 0;
    const auto done = unpack(kind, file, at, file.size() - at, most_unpacked, [&](std::span<const std::uint8_t> piece) {
        produced += piece.size();
        return produced < enough;
    });
    return done.has_value() || produced >= enough;
}

/// Where the packed kernel lies in a zImage; none: not found in its first 512 KiB.
std::optional<std::uint64_t> payload_of(const ByteSource& file, Compression& kind) {
    constexpr std::uint64_t most = 512U << 10U;
    constexpr int most_tries = 64;
    const auto head = file.bytes(0, std::min(file.size(), most));
    if (!head) return std::nullopt;
    int tries = 0;
    for (std::size_t at = 0x40; at + 12 <= head->size() && tries < most_tries; ++at) {
        const auto first = (*head)[at];
        if (first != 0xFD && first != 0x1F && first != 0x89 && first != 0x28 && first != 0x02) continue;
        kind = recognise_compression(std::span(*head).subspan(at, 8));
        if (kind != Compression::Xz && kind != Compression::Lzop && kind != Compression::Zstd &&
            kind != Compression::Lz4Legacy && kind != Compression::Gzip)
            continue;
        ++tries;
        if (begins_packed(file, at, kind)) return at;
    }
    return std::nullopt;
}

}  // namespace

Result<KernelImage> inspect_zimage(const ByteSource& file, KernelEntry /*entry*/) {
    constexpr std::uint64_t head_at = 36;
    const auto head = file.load<ondisk::ArmZimage>(head_at);
    if (!head) return tl::unexpected(head.error());
    KernelImage out;
    out.processor = Processor::Arm;
    out.file_size = file.size();
    out.expected_size = std::uint64_t{head->end} - head->start;
    if (head->end <= head->start || out.expected_size > file.size()) {
        tell(out, Soundness::Cut,
             fmt::format("the kernel file is cut short: its head promises {}", size_text(out.expected_size)),
             evidence_bytes(file, head_at, sizeof(*head), fmt::format("{} bytes", out.expected_size),
                            fmt::format("{} bytes", file.size())));
        return out;
    }
    const auto at = payload_of(file, out.payload);
    if (!at) {
        out.payload = Compression::None;
        tell(out, Soundness::Unknown, "as long as its own head says; its packed kernel was not found",
             evidence_bytes(file, head_at, sizeof(*head)));
        return out;
    }
    Seeker version(banner);
    bool found = false;
    const auto done = unpack(out.payload, file, *at, out.expected_size - *at, most_unpacked,
                             [&](std::span<const std::uint8_t> piece) {
                                 found = found || version.take(piece);
                                 return true;
                             });
    take_version(version.found(), out);
    if (!done) {
        tell(out, Soundness::Damaged, "the compressed kernel cannot be unpacked: " + done.error().what,
             evidence_error(done.error()));
        return out;
    }
    const bool checked = out.payload != Compression::Lz4Legacy;
    tell(out, checked ? Soundness::Sound : Soundness::Unknown,
         fmt::format("its {} payload unpacks to {}{}", compression_name(out.payload), size_text(done->produced),
                     checked ? " and its check matches" : "; that format carries no check"),
         evidence_bytes(file, *at, done->consumed));
    return out;
}

Result<bool> flat_image_mentions(const ByteSource& file, std::string_view words) {
    Seeker seeker(words);
    // Packed as a file: U-Boot and GRUB unpack it.
    const auto head = file.bytes(0, std::min<std::uint64_t>(8, file.size()));
    const auto kind = head && head->size() >= 6 ? recognise_compression(*head) : Compression::None;
    if (kind != Compression::None) {
        const auto done = unpack(kind, file, 0, file.size(), most_unpacked,
                                 [&](std::span<const std::uint8_t> piece) { return !seeker.take(piece); });
        if (!done && seeker.found().empty()) return tl::unexpected(done.error());
        return !seeker.found().empty();
    }
    for (std::uint64_t at = 0; at < file.size(); at += step) {
        const auto part = file.bytes(at, std::min(step, file.size() - at));
        if (!part) return tl::unexpected(part.error());
        if (seeker.take(*part)) return true;
    }
    return !seeker.found().empty();
}

Result<bool> zimage_mentions(const ByteSource& file, std::string_view words) {
    Compression kind{};
    const auto at = payload_of(file, kind);
    if (!at) return fail(ErrorKind::Unsupported, "its packed kernel was not found", file.place());
    Seeker seeker(words);
    const auto done = unpack(kind, file, *at, file.size() - *at, most_unpacked,
                             [&](std::span<const std::uint8_t> piece) { return !seeker.take(piece); });
    if (!done && seeker.found().empty()) return tl::unexpected(done.error());
    return !seeker.found().empty();
}

}  // namespace herberge
