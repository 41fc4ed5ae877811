// SPDX-License-Identifier: MIT
// The table of kernel formats.
#include "artifact/kernels.hpp"

#include <fmt/format.h>
#include <algorithm>
#include <array>
#include <optional>

namespace herberge {

namespace {

template <std::uint64_t At, std::uint8_t A, std::uint8_t B, std::uint8_t C, std::uint8_t D>
bool marked(const ByteSource& file) {
    const auto mark = file.load<std::array<std::uint8_t, 4>>(At);
    return mark && *mark == std::array<std::uint8_t, 4>{A, B, C, D};
}

constexpr KernelFormat formats[] = {
    {"an x86 bzImage", Processor::X86, is_bz_image, inspect_bz_image},
    // Documentation/arch/arm64/booting.rst and riscv/boot-image-header.rst: the mark at byte 56.
    {"an arm64 Image", Processor::Arm64, marked<56, 'A', 'R', 'M', 0x64>, inspect_flat_image},
    {"a RISC-V Image", Processor::Riscv64, marked<56, 'R', 'S', 'C', 0x05>, inspect_flat_image},
    // arch/arm/boot/compressed/head.S: 0x016F2818 at byte 36.
    {"an ARM zImage", Processor::Arm, marked<36, 0x18, 0x28, 0x6F, 0x01>, inspect_zimage},
    // U-Boot's legacy image (include/image.h), big-endian, and its flattened image tree.
    {"a legacy U-Boot image", Processor::Arm, marked<0, 0x27, 0x05, 0x19, 0x56>, nullptr},
    {"a flattened image tree", Processor::Arm, marked<0, 0xD0, 0x0D, 0xFE, 0xED>, nullptr},
};

}  // namespace

namespace {

/// A kernel that the board's loader unpacks; none: it is not packed.
std::optional<Result<KernelImage>> inspect_packed(const ByteSource& file, Processor processor) {
    constexpr std::uint64_t most = std::uint64_t{256} << 20U;
    const auto head = file.bytes(0, std::min<std::uint64_t>(8, file.size()));
    const auto kind = head && head->size() >= 6 ? recognise_board_compression(*head) : Compression::None;
    if (kind == Compression::None) return std::nullopt;
    std::vector<std::uint8_t> bytes;
    const auto done = unpack(kind, file, 0, file.size(), most, [&](std::span<const std::uint8_t> piece) {
        bytes.insert(bytes.end(), piece.begin(), piece.end());
        return true;
    });
    if (done) {
        auto out = inspect_kernel(*memory_source(std::move(bytes), file.place() + " (unpacked)"), KernelEntry::Board,
                                  processor);
        if (out && out->soundness == Soundness::Unknown && kind == Compression::Gzip) {
            out->soundness = Soundness::Sound;
            out->soundness_text = "its gzip container unpacks, and its check matches";
        }
        return out;
    }
    KernelImage out;
    out.processor = processor;
    out.file_size = file.size();
    out.payload = kind;
    out.soundness = Soundness::Damaged;
    out.soundness_text = "the packed kernel cannot be unpacked: " + done.error().what;
    out.evidence.push_back(evidence_error(done.error()));
    return out;
}

}  // namespace

Result<KernelImage> inspect_kernel(const ByteSource& file, KernelEntry entry, Processor processor) {
    const auto* format = std::ranges::find_if(formats, [&](const KernelFormat& f) { return f.recognise(file); });
    const bool board = processor != Processor::X86;
    // What carries no mark at all is judged as the kernel that a PC's loader takes it for.
    if (format == std::end(formats) && !board) return inspect_bz_image(file, entry);
    const bool arm =
        processor == Processor::Arm64 && format != std::end(formats) && format->processor == Processor::Arm;
    if (format != std::end(formats) && format->inspect != nullptr && (format->processor == processor || arm))
        return format->inspect(file, entry);
    if (format == std::end(formats))
        if (auto inside = inspect_packed(file, processor)) return *inside;
    KernelImage out;
    out.processor = processor;
    out.file_size = file.size();
    const std::string_view wanted = board ? "a kernel for this board" : "a kernel for a PC";
    if (format == std::end(formats)) {
        out.soundness = Soundness::Unknown;
        out.soundness_text = "it carries no mark by which it could be told what it is";
        out.evidence.push_back(evidence_place(file.place(), std::string(wanted), "no mark that is known"));
        return out;
    }
    out.soundness = Soundness::Damaged;
    out.soundness_text = fmt::format("the file is {}: a kernel for another kind of machine", format->name);
    out.evidence.push_back(evidence_place(file.place(), std::string(wanted), std::string(format->name)));
    return out;
}

}  // namespace herberge
