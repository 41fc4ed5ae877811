// SPDX-License-Identifier: MIT
// Files that lost the mark by which programs know them, and are else what they were; files that are stored so that a
// loader cannot read them.
#include <fmt/format.h>
#include <algorithm>
#include <optional>
#include <set>

#include <herberge/places.hpp>

#include "remedy/edits.hpp"
#include "remedy/remedy.hpp"
#include "walk/routes.hpp"

namespace herberge::remedy {

namespace {

struct OpenFile {
    std::string volume, path;
    Source bytes;
    [[nodiscard]] std::string place() const { return volume + ":" + path; }
};
std::optional<OpenFile> open_at(const Machine& machine, const std::string& place) {
    const auto named = file_place(place);
    auto opened = named ? open_file(machine, *named) : fail(ErrorKind::NotFound, "no file");
    if (!opened) return std::nullopt;
    return OpenFile{opened->volume->place, opened->found.path, std::move(opened->bytes)};
}

/// The kernels that the entries name and that are there, each once.
std::vector<OpenFile> kernels(const Case& stopped) {
    std::vector<OpenFile> out;
    std::set<std::string> seen;
    std::vector<const MenuEntry*> entries;
    for (const auto& menu : stopped.verdict.menus) walk::collect_leaves(menu.entries, entries);
    for (const auto* entry : entries)
        for (const auto& kernel : entry->kernel) {
            if (kernel.volume == nullptr || !kernel.found()) continue;
            const std::string place = kernel.volume->place + ":" + kernel.real_path;
            if (!seen.insert(place).second) continue;
            if (auto file = open_at(stopped.machine, place)) out.push_back(std::move(*file));
        }
    return out;
}

void offer(const OpenFile& file, std::uint64_t at, std::vector<std::uint8_t> mark, const std::string& what,
           std::vector<Idea>& out) {
    out.push_back(
        {fmt::format("write {} back into {}, at byte {}", what, file.place(), at),
         "the rest of the file may be damaged, too: what its content should be is not known",
         [bytes = file.bytes, at, mark = std::move(mark)](Workshop& shop) { return shop.write(*bytes, at, mark); }, 9});
}

/// The set-up header of an x86 kernel (Documentation/arch/x86/boot.rst): its marks, where its other fields are a
/// kernel's.
void kernel_marks(const OpenFile& file, std::vector<Idea>& out) {
    constexpr std::size_t boot_flag = 0x1FE, magic = 0x202, version = 0x206, code_start = 0x214, load_flags = 0x236;
    const auto head = file.bytes->bytes(0, 1024);
    if (!head) return;
    const auto& b = *head;
    const auto word = [&](std::size_t at) { return b[at] | unsigned{b[at + 1]} << 8U; };
    const bool loads_high =
        b[code_start] == 0 && b[code_start + 1] == 0 && b[code_start + 2] == 0x10 && b[code_start + 3] == 0;
    if (word(version) < 0x200 || word(version) > 0x2FF || !loads_high) return;
    if (word(boot_flag) != 0xAA55) offer(file, boot_flag, {0x55, 0xAA}, "the mark 55 AA", out);
    if (!std::equal(b.begin() + magic, b.begin() + magic + 4, "HdrS"))
        offer(file, magic, {'H', 'd', 'r', 'S'}, "the kernel's mark “HdrS”", out);
    const std::size_t pe = word(0x3C);
    const bool wide = (word(load_flags) & 1U) != 0;
    if (pe + 6 <= b.size() && b[pe] == 'P' && b[pe + 1] == 'E' && wide && word(pe + 4) != 0x8664)
        offer(file, pe + 4, {0x64, 0x86}, "the processor that it is for (x86-64, as its other header says)", out);
}

/// An ELF program whose first four bytes are lost.
void program_mark(const OpenFile& file, std::vector<Idea>& out) {
    const auto head = file.bytes->bytes(0, 64);
    if (!head) return;
    const auto& b = *head;
    const bool wide = b[4] == 2;
    const std::size_t header_size_at = wide ? 52 : 40;
    if ((b[4] != 1 && b[4] != 2) || b[5] != 1 || b[6] != 1 || b[header_size_at] != (wide ? 64 : 52)) return;
    offer(file, 0, {0x7F, 'E', 'L', 'F'}, "the mark of a program (7F “ELF”)", out);
}

/// A file with holes, written anew without them.
void without_holes(const OpenFile& file, std::vector<Idea>& out) {
    constexpr std::uint64_t most = std::uint64_t{64} << 20U;
    auto content = file.bytes->bytes(0, file.bytes->size(), most);
    if (!content) return;
    out.push_back({fmt::format("store {} anew, without holes", file.place()),
                   {},
                   [volume = file.volume, path = file.path, content = std::move(*content)](Workshop& shop) {
                       return put_file(shop, volume, path, content);
                   },
                   6});
}

}  // namespace

void propose_marks(const Case& stopped, std::vector<Idea>& out) {
    const bool refused = stopped.has(Code::KernelRefusedByLoader) || stopped.has(Code::KernelSetupDamaged);
    const bool holes = stopped.has(Code::KernelHasHoles);
    if (refused || holes)
        for (const auto& file : kernels(stopped)) {
            if (refused) kernel_marks(file, out);
            if (holes) without_holes(file, out);
        }
    if (stopped.has(Code::ProgramFormat))
        for (const auto& evidence : stopped.rung.evidence)
            if (const auto file = open_at(stopped.machine, evidence.place)) program_mark(*file, out);
}

}  // namespace herberge::remedy
