// SPDX-License-Identifier: MIT
#include "loader/unified_image.hpp"

#include <fmt/format.h>
#include <algorithm>

#include <herberge/pe.hpp>
#include <herberge/uefi.hpp>

#include "loader/family.hpp"
#include "loader/text.hpp"

namespace herberge::loader {

namespace {

constexpr std::size_t most_text = std::size_t{1} << 20U;

const PeSection* section_of(const PeImage& image, std::string_view wanted) {
    const auto found = std::ranges::find(image.sections, wanted, &PeSection::name);
    return found != image.sections.end() ? &*found : nullptr;
}

/// What the memory holds of a section: its size there, as far as the file has it.
std::uint64_t size_of(const PeSection& section) {
    return section.virtual_size != 0 ? std::min(section.virtual_size, section.file_size) : section.file_size;
}

Result<std::string> text_of(const ByteSource& source, const PeImage& image, std::string_view wanted) {
    const auto* s = section_of(image, wanted);
    if (s == nullptr) return std::string();
    const auto bytes = source.bytes(s->file_offset, std::min<std::uint64_t>(size_of(*s), most_text));
    if (!bytes) return tl::unexpected(bytes.error());
    return std::string(bytes->begin(), std::ranges::find(*bytes, std::uint8_t{0}));
}

void read_release(std::string_view rest, UnifiedImage& out) {
    while (!rest.empty()) {
        const auto line = rest.substr(0, rest.find('\n'));
        rest.remove_prefix(std::min(line.size() + 1, rest.size()));
        const auto equals = line.find('=');
        if (equals == std::string_view::npos) continue;
        const auto key = line.substr(0, equals);
        auto value = line.substr(equals + 1);
        if (value.size() >= 2 && (value.front() == '"' || value.front() == '\''))
            value = value.substr(1, value.size() - 2);
        if (key == "PRETTY_NAME") out.title = value;
        if (key == "ID") out.id = value;
        if (key == "IMAGE_ID") out.image_id = value;
        const bool version = key == "VERSION_ID" || key == "IMAGE_VERSION" || key == "BUILD_ID" || key == "VERSION";
        if (version && out.version.empty()) out.version = value;
    }
}

/// The stub asks for the marks of an image, and hands the kernel to the firmware's own loader (src/boot/efi/pe.c and
/// linux.c, 252); it prints why it does not start it, and goes back to who started it.
void judge_kernel(UnifiedImage& out, const PeSection& section, const Source& source, EfiMachine firmware) {
    const auto kernel = slice(source, section.file_offset, size_of(section), out.file.place);
    const auto inspected = inspect_pe(*kernel);
    if (!inspected && inspected.error().unreadable()) return;
    const auto refused = refuse_efi_image(*kernel, firmware);
    if (!refused) return;
    out.entry.messages.push_back(
        {inspected ? fmt::format("Error loading kernel image: {}", refused->screen) : "Bad kernel image: Load Error",
         out.entry.place, 0});
    stop(out.entry, Code::KernelRefusedByLoader,
         fmt::format("the stub of {} does not start the kernel in it: {}", out.file.place, refused->why));
}

}  // namespace

Result<UnifiedImage> read_unified(const Volume& volume, const std::string& path, EfiMachine firmware) {
    UnifiedImage out;
    out.file = refer(volume, path, path, 0);
    const auto unusable = [&](ErrorKind kind, std::string why) {
        return tl::unexpected(Error{kind, out.file.place, out.file.place, {}, std::move(why)});
    };
    const auto source = open_file(out.file);
    const auto image = source ? inspect_pe(*source) : fail(ErrorKind::NotFound, "unreadable");
    if (out.file.unreadable() || (!image && image.error().unreadable()))
        return unusable(ErrorKind::Unreadable, "it cannot be read");
    if (!image) return unusable(ErrorKind::Malformed, "it is no image");
    const auto* kernel = section_of(*image, ".linux");
    if (section_of(*image, ".osrel") == nullptr) return unusable(ErrorKind::NotFound, "it has no section .osrel");
    if (kernel == nullptr) return unusable(ErrorKind::NotFound, "it has no section .linux");
    const auto release = text_of(*source, *image, ".osrel");
    const auto words = text_of(*source, *image, ".cmdline");
    if (!release || !words) return unusable(ErrorKind::Unreadable, "it cannot be read");
    read_release(*release, out);
    const auto piece = [&](const PeSection& s) {
        auto part = out.file;
        part.part = std::pair(std::uint64_t{s.file_offset}, size_of(s));
        part.size = size_of(s);
        return part;
    };
    out.entry.place = out.file.place;
    out.entry.kind = EntryKind::Linux;
    out.entry.started_by = KernelEntry::Efi;
    out.entry.kernel_loaded = true;
    out.entry.arguments = std::string(trim(*words));
    out.entry.kernel = {piece(*kernel)};
    if (const auto* ramdisk = section_of(*image, ".initrd")) out.entry.ramdisks = {piece(*ramdisk)};
    judge_kernel(out, *kernel, source, firmware);
    return out;
}

std::string unified_arguments(const UnifiedImage& image, const EfiContext& context) {
    const bool own_counts = context.trust != nullptr && !image.entry.arguments.empty();
    const bool handed_over = !context.options.empty() && static_cast<unsigned char>(context.options.front()) > 0x1F;
    return handed_over && !own_counts ? context.options : image.entry.arguments;
}

}  // namespace herberge::loader
