// SPDX-License-Identifier: MIT
#include <fmt/format.h>
#include <algorithm>

#include <herberge/artifact.hpp>

#include "artifact/libraries.hpp"
#include "ondisk/linux.hpp"

namespace herberge {

bool looks_like_elf(std::span<const std::uint8_t> start) {
    return start.size() >= 4 && start[0] == 0x7F && start[1] == 'E' && start[2] == 'L' && start[3] == 'F';
}

std::string_view processor_name(Processor processor) {
    switch (processor) {
        case Processor::Arm: return "ARM";
        case Processor::Arm64: return "AArch64 or ARM";
        case Processor::Riscv64: return "RISC-V";
        case Processor::X86: break;
    }
    return "x86-64 or i386";
}

bool runs_programs_of(Processor processor, std::uint16_t elf_machine) {
    constexpr std::uint16_t i386 = 3, arm = 40, amd64 = 62, aarch64 = 183, riscv = 243;
    switch (processor) {
        case Processor::Arm: return elf_machine == arm;
        case Processor::Arm64: return elf_machine == aarch64 || elf_machine == arm;
        case Processor::Riscv64: return elf_machine == riscv;
        case Processor::X86: break;
    }
    return elf_machine == i386 || elf_machine == amd64;
}

std::string elf_machine_name(std::uint16_t machine) {
    switch (machine) {
        case 3: return "i386";
        case 8: return "MIPS";
        case 20: return "PowerPC";
        case 21: return "PowerPC 64";
        case 22: return "S/390";
        case 40: return "ARM";
        case 62: return "x86-64";
        case 183: return "AArch64";
        case 243: return "RISC-V";
        case 258: return "LoongArch";
        default: return fmt::format("machine {}", machine);
    }
}

namespace {

constexpr std::uint32_t pt_load = 1, pf_x = 1, pf_w = 2;
constexpr std::uint32_t pt_dynamic = 2;
constexpr std::uint32_t pt_interp = 3;

/// Tags of the dynamic section (System V ABI, "Dynamic Section"; RUNPATH from the GNU extensions).
namespace tag {
constexpr std::uint64_t needed = 1, strings = 5, strings_size = 10, soname = 14, rpath = 15, runpath = 29;
}

/// A piece of the file that lies at an address.
struct Loaded {
    std::uint64_t address, offset, length;
};

template <class Word>
void read_dynamic(const ByteSource& file, std::uint64_t offset, std::uint64_t length,
                  const std::vector<Loaded>& segments, ElfInfo& out) {
    constexpr std::uint64_t most_section = std::uint64_t{64} << 10U;
    constexpr std::uint64_t most_strings = std::uint64_t{4} << 20U;
    constexpr std::size_t most_needed = 400;
    const auto section = file.bytes(offset, std::min(length, most_section));
    if (!section) return;
    std::vector<std::pair<std::uint64_t, std::uint64_t>> items;
    std::uint64_t strings = 0;
    std::uint64_t size = 0;
    for (std::size_t at = 0; at + 2 * sizeof(Word) <= section->size(); at += 2 * sizeof(Word)) {
        const std::uint64_t kind = ondisk::from_bytes<Word>(*section, at);
        const std::uint64_t value = ondisk::from_bytes<Word>(*section, at + sizeof(Word));
        if (kind == 0) break;
        if (kind == tag::strings) strings = value;
        else if (kind == tag::strings_size) size = value;
        else items.emplace_back(kind, value);
    }
    const auto home = std::ranges::find_if(
        segments, [&](const Loaded& s) { return strings >= s.address && strings - s.address < s.length; });
    if (home == segments.end()) return;
    const std::uint64_t room = home->length - (strings - home->address);
    const auto table = file.bytes(home->offset + (strings - home->address), std::min({size, room, most_strings}));
    if (!table) return;
    auto text = [&](std::uint64_t at) {
        if (at >= table->size()) return std::string{};
        const auto from = table->begin() + static_cast<std::ptrdiff_t>(at);
        return std::string(from, std::find(from, table->end(), std::uint8_t{0}));
    };
    for (const auto& [kind, value] : items) {
        if (kind == tag::needed && out.needed.size() < most_needed) out.needed.push_back(text(value));
        else if (kind == tag::soname) out.soname = text(value);
        else if (kind == tag::rpath) out.rpath = text(value);
        else if (kind == tag::runpath) out.runpath = text(value);
    }
}

template <class Header, class Program, class Word>
Result<ElfInfo> inspect(const ByteSource& file, unsigned bits) {
    const auto head = file.load<Header>(0);
    if (!head) return tl::unexpected(head.error());
    ElfInfo out;
    out.bits = bits;
    out.type = head->type;
    out.machine = head->machine;
    const std::uint64_t table = head->program_offset;
    std::vector<Loaded> segments;
    std::optional<Loaded> dynamic;
    for (unsigned i = 0; i < head->program_count; ++i) {
        const auto program = file.load<Program>(table + std::uint64_t{i} * head->program_entry_size);
        if (!program && program.error().unreadable()) return tl::unexpected(program.error());
        if (!program) {
            out.complete = false;
            break;
        }
        const std::uint64_t offset = program->offset;
        const std::uint64_t length = program->file_size;
        const bool inside = offset <= file.size() && length <= file.size() - offset;
        if (program->type == pt_load && !inside) out.complete = false;
        if (program->type == pt_load && inside) segments.push_back({program->virtual_address, offset, length});
        if (program->type == pt_load && inside && offset > 0 && (program->flags & pf_x) != 0 &&
            (program->flags & pf_w) == 0)
            out.code.emplace_back(offset, length);
        if (program->type == pt_dynamic && inside) dynamic = Loaded{0, offset, length};
        if (program->type == pt_interp) {
            const auto name = inside ? file.bytes(offset, length, 4096) : tl::unexpected(Error{});
            if (name) out.interpreter.assign(name->begin(), std::ranges::find(*name, std::uint8_t{0}));
            else out.complete = false;
        }
    }
    if (dynamic) read_dynamic<Word>(file, dynamic->offset, dynamic->length, segments, out);
    return out;
}

}  // namespace

Result<ElfInfo> inspect_elf(const ByteSource& file) {
    const auto ident = file.load<ondisk::ElfIdent>(0);
    if (!ident) return tl::unexpected(ident.error());
    if (!looks_like_elf(ident->magic))
        return fail(ErrorKind::Malformed, "not an ELF file", file.place(), "7f 45 4c 46", hex(ident->magic));
    if (ident->data != 1) return fail(ErrorKind::Unsupported, "a big-endian ELF file", file.place());
    if (ident->elf_class == 1) return inspect<ondisk::Elf32, ondisk::Elf32Program, ondisk::little_uint32_t>(file, 32);
    if (ident->elf_class == 2) return inspect<ondisk::Elf64, ondisk::Elf64Program, ondisk::little_uint64_t>(file, 64);
    return fail(ErrorKind::Malformed, "an ELF file of neither 32 nor 64 bits", file.place());
}

namespace {

constexpr int most_interpreters = 4;  // Linux: BINPRM_MAX_RECURSION

/// What the kernel asks of the loader that an ELF program names (fs/binfmt_elf.c, load_elf_binary): an executable ELF
/// file for this processor. Its own interpreter, if it named one, is not looked at. Empty: it serves.
std::string refuse_loader(const FileSystem& fs, std::string_view volume, const std::string& path, Processor processor,
                          std::vector<Evidence>& evidence) {
    const std::string place = fmt::format("{}:{}", volume, path);
    auto refuse = [&](std::string why, Evidence shown) {
        evidence.push_back(std::move(shown));
        return why;
    };
    const auto found = resolve(fs, path);
    if (!found) return refuse(found.error().what, evidence_place(place, "the program interpreter", found.error().what));
    if (found->file.type != FileType::Regular)
        return refuse("it is not a regular file", evidence_place(place, "a regular file"));
    if (!found->file.executable())
        return refuse(fmt::format("{} has no execute permission", found->path),
                      evidence_place(place, "an execute bit", fmt::format("mode {:04o}", found->file.permissions)));
    const auto file = fs.open(found->file.id, fmt::format("{}:{}", volume, found->path));
    const auto elf = file ? inspect_elf(**file) : tl::unexpected(file.error());
    if (!elf) return refuse(elf.error().text(), evidence_error(elf.error()));
    if (!runs_programs_of(processor, elf->machine))
        return refuse(fmt::format("it is built for {}", elf_machine_name(elf->machine)),
                      evidence_place(place, std::string(processor_name(processor)), elf_machine_name(elf->machine)));
    if (!elf->complete)
        return refuse("it is cut short",
                      evidence_place(place, "all segments inside the file", size_text((*file)->size())));
    return {};
}

Executable judge(const FileSystem& fs, std::string_view volume, std::string_view path, Processor processor, int depth) {
    Executable out;
    out.path = path;
    const std::string place = fmt::format("{}:{}", volume, path);
    auto refuse = [&](Code code, std::string why, Evidence evidence) {
        out.runs = false;
        out.code = code;
        out.why = std::move(why);
        out.evidence.push_back(std::move(evidence));
        return out;
    };
    auto unreadable = [&](const Error& error) {
        out.error = error.kind;
        return refuse(Code::ProgramUnreadable, error.text(), evidence_error(error));
    };
    const auto found = resolve(fs, path);
    if (!found) {
        if (found.error().kind == ErrorKind::Checksum || found.error().unreadable()) return unreadable(found.error());
        const bool dangling = found.error().kind == ErrorKind::NotFound && !found.error().found.empty();
        return refuse(dangling ? Code::ProgramLinkDangling : Code::ProgramMissing, found.error().what,
                      evidence_place(place, "an executable program", found.error().what));
    }
    out.path = found->path;
    out.links = found->links;
    const std::string real = fmt::format("{}:{}", volume, found->path);
    if (found->file.type != FileType::Regular)
        return refuse(Code::ProgramNotAFile, fmt::format("{} is not a regular file", found->path),
                      evidence_place(real, "a regular file", std::string(file_type_name(found->file.type))));
    if (!found->file.executable())
        return refuse(Code::ProgramNotExecutable, fmt::format("{} has no execute permission", found->path),
                      evidence_place(real, "an execute bit", fmt::format("mode {:04o}", found->file.permissions)));
    const auto file = fs.open(found->file.id, real);
    if (!file) return unreadable(file.error());
    const std::uint64_t head_size = std::min<std::uint64_t>((*file)->size(), 256);
    const auto head = (*file)->bytes(0, head_size);
    if (!head) return unreadable(head.error());
    if (looks_like_elf(*head)) {
        const auto elf = inspect_elf(**file);
        if (!elf) return refuse(Code::ProgramFormat, elf.error().text(), evidence_error(elf.error()));
        if (!runs_programs_of(processor, elf->machine))
            return refuse(Code::ProgramArchitecture,
                          fmt::format("{} is built for {}", found->path, elf_machine_name(elf->machine)),
                          evidence_place(real, std::string(processor_name(processor)), elf_machine_name(elf->machine)));
        if (!elf->complete)
            return refuse(Code::ProgramCut, fmt::format("{} is cut short", found->path),
                          evidence_place(real, "all segments inside the file", size_text((*file)->size())));
        out.interpreter = elf->interpreter;
        out.runs = true;
        if (!elf->interpreter.empty()) {
            if (const auto why = refuse_loader(fs, volume, elf->interpreter, processor, out.evidence); !why.empty()) {
                out.runs = false;
                out.code = Code::ProgramInterpreterMissing;
                out.why = fmt::format("the program interpreter {} of {} cannot be used: {}",
                                      printable(elf->interpreter), found->path, why);
                return out;
            }
            if (const auto problem = library_problem(*program_files(fs, volume), found->path, *elf, &out.libraries)) {
                out.missing_library = fmt::format("{}: {}", problem->library, problem->words);
                return refuse(
                    Code::ProgramLibraryMissing,
                    fmt::format("{} needs {}{}: {}", found->path, printable(problem->library),
                                problem->needed_by == found->path ? "" : fmt::format(" (for {})", problem->needed_by),
                                problem->words),
                    problem->evidence);
            }
        }
        out.evidence.push_back(
            evidence_place(real, {}, fmt::format("{}-bit ELF, {}", elf->bits, elf_machine_name(elf->machine))));
        return out;
    }
    const std::string_view text(reinterpret_cast<const char*>(head->data()), head->size());
    if (!text.starts_with("#!"))
        return refuse(
            Code::ProgramFormat, fmt::format("{} is neither an ELF program nor a script", found->path),
            evidence_place(real, "ELF or #!", hex(std::span(*head).first(std::min<std::size_t>(head->size(), 4)))));
    // Linux fs/binfmt_script.c: the first word behind "#!", blanks around it skipped.
    const auto line = text.substr(2, text.find('\n') - 2);
    const auto from = std::min(line.find_first_not_of(" \t"), line.size());
    const auto word = line.substr(from, line.find_first_of(" \t", from) - from);
    out.interpreter = word;
    out.script = true;
    if (word.empty() || depth >= most_interpreters)
        return refuse(Code::ProgramFormat, fmt::format("{} names no usable interpreter", found->path),
                      evidence_line(real, 1));
    auto interpreter = judge(fs, volume, word, processor, depth + 1);
    if (!interpreter.runs) {
        out.code = Code::ProgramInterpreterMissing;
        out.why =
            fmt::format("the interpreter {} of {} cannot be used: {}", printable(word), found->path, interpreter.why);
        out.evidence.push_back(evidence_line(real, 1, "an interpreter that exists", printable(line)));
        return out;
    }
    out.runs = true;
    out.evidence.push_back(evidence_line(real, 1, {}, "script for " + printable(word)));
    return out;
}

}  // namespace

Executable judge_executable(const FileSystem& fs, std::string_view place, std::string_view path, Processor processor) {
    return judge(fs, place, path, processor, 0);
}

}  // namespace herberge
