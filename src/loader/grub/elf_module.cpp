// SPDX-License-Identifier: MIT
#include "loader/grub/elf_module.hpp"

#include <algorithm>

#include "loader/grub/features.hpp"
#include "ondisk/linux.hpp"

namespace herberge::grub {

namespace {

std::string text_at(std::span<const std::uint8_t> bytes, std::size_t at) {
    if (at >= bytes.size()) return {};
    const auto rest = bytes.subspan(at);
    return {rest.begin(), std::ranges::find(rest, std::uint8_t{0})};
}

constexpr std::uint32_t section_symbols = 2;
constexpr std::uint32_t section_nobits = 8;

tl::unexpected<Error> refuse(std::string message) { return fail(ErrorKind::Malformed, std::move(message)); }

std::vector<std::string> words_of(std::span<const std::uint8_t> file) {
    constexpr std::size_t most = 24;
    const auto may_be = [](std::uint8_t c) {
        return (c >= 'a' && c <= 'z') || (c >= '0' && c <= '9') ||
               std::string_view("_-.[+~:").find(static_cast<char>(c)) != std::string_view::npos;
    };
    std::vector<std::string> out;
    std::string word;
    bool whole = false;  // it began behind a zero byte
    for (const auto byte : file) {
        if (byte == 0) {
            if (whole && !word.empty() && word.size() <= most) out.push_back(word);
            word.clear();
            whole = true;
        } else if (!may_be(byte)) {
            whole = false;
        } else if (whole && word.size() <= most) {
            word += static_cast<char>(byte);
        }
    }
    return out;
}

template <class Header, class Section, class Symbol>
Result<Module> read_sections(std::span<const std::uint8_t> file, const Header& head) {
    if (head.type != 1) return refuse("this ELF file is not of the right type");
    const std::uint64_t table = head.section_offset;
    if (table + std::uint64_t{head.section_entry_size} * head.section_count > file.size() || table > file.size() ||
        head.section_entry_size < sizeof(Section) || head.section_names >= head.section_count)
        return refuse("ELF sections outside core");
    auto section = [&](std::size_t index) {
        return ondisk::from_bytes<Section>(file, static_cast<std::size_t>(table) + index * head.section_entry_size);
    };
    auto body = [&](const Section& s) {
        if (s.type == section_nobits || s.offset > file.size() || s.size > file.size() - s.offset)
            return std::span<const std::uint8_t>{};
        return file.subspan(static_cast<std::size_t>(s.offset), static_cast<std::size_t>(s.size));
    };
    const auto names = body(section(head.section_names));
    Module out;
    for (std::size_t i = 0; i < head.section_count; ++i) {
        const auto s = section(i);
        const std::string name = text_at(names, s.name);
        const auto content = body(s);
        if (name == ".modname") out.name = text_at(content, 0);
        if (name == ".moddeps")
            for (std::size_t at = 0; at < content.size(); at += text_at(content, at).size() + 1)
                if (auto dep = text_at(content, at); !dep.empty()) out.depends.push_back(std::move(dep));
        if (s.type != section_symbols || s.entry_size < sizeof(Symbol) || s.link >= head.section_count) continue;
        const auto strings = body(section(s.link));
        for (std::size_t at = static_cast<std::size_t>(s.entry_size); at + sizeof(Symbol) <= content.size();
             at += static_cast<std::size_t>(s.entry_size)) {
            const auto told = ondisk::from_bytes<Symbol>(content, at);
            const auto symbol = text_at(strings, told.name);
            const unsigned binding = told.info >> 4U;
            if (symbol.empty() || binding == 0) continue;
            if (told.section == 0) out.needs.push_back(symbol);
            else out.defines.push_back(symbol);
        }
    }
    if (out.name.empty()) return refuse("no module name found");
    out.features = accepted_features(out.name, file);
    out.words = words_of(file);
    // Without a symbol table it may still pull in others (grub-core/kern/dl.c, grub_dl_resolve_symbols): all_video
    // does.
    return out;
}

/// What modules of a platform are (the machines of the ELF specification).
struct ModuleKind {
    std::string_view processor;  ///< that GRUB's name for the platform begins with
    bool wide;
    std::uint16_t machine;
};

const ModuleKind& kind_of(std::string_view platform) {
    static constexpr ModuleKind kinds[] = {{"i386-", false, 3},
                                           {"x86_64-", true, 62},
                                           {"arm64-", true, 183},
                                           {"arm-", false, 40},
                                           {"riscv64-", true, 243}};
    const auto* found =
        std::ranges::find_if(kinds, [&](const ModuleKind& k) { return platform.starts_with(k.processor); });
    return found != std::end(kinds) ? *found : kinds[0];
}

}  // namespace

Result<Module> read_module(std::span<const std::uint8_t> file, std::string_view platform) {
    const auto& kind = kind_of(platform);
    const auto head = ondisk::from_bytes<ondisk::Elf32>(file);
    if (file.size() < sizeof(head)) return refuse("ELF header outside core");
    static constexpr std::array<std::uint8_t, 4> magic = {0x7F, 'E', 'L', 'F'};
    if (head.ident.magic != magic || head.ident.version != 1 || head.version != 1)
        return refuse("invalid arch-independent ELF magic");
    if (!kind.wide) {
        if (head.ident.elf_class != 1 || head.ident.data != 1 || head.machine != kind.machine)
            return refuse("invalid arch-dependent ELF magic");
        return read_sections<ondisk::Elf32, ondisk::Elf32Section, ondisk::Elf32Symbol>(file, head);
    }
    const auto wide_head = ondisk::from_bytes<ondisk::Elf64>(file);
    if (file.size() < sizeof(wide_head)) return refuse("ELF header outside core");
    if (wide_head.ident.elf_class != 2 || wide_head.ident.data != 1 || wide_head.machine != kind.machine)
        return refuse("invalid arch-dependent ELF magic");
    return read_sections<ondisk::Elf64, ondisk::Elf64Section, ondisk::Elf64Symbol>(file, wide_head);
}

}  // namespace herberge::grub
