// SPDX-License-Identifier: MIT
#include <fmt/format.h>
#include <algorithm>
#include <cctype>

#include <herberge/chain.hpp>
#include <herberge/efi_files.hpp>
#include <herberge/pe.hpp>
#include <herberge/signature.hpp>

#include "walk/routes.hpp"

namespace herberge {

namespace {

constexpr std::size_t most_files = 500;
constexpr int most_depth = 5;

std::string section_text(const ByteSource& file, const PeImage& image, std::string_view name) {
    std::string out;
    for (const auto byte : pe_section(file, image, name, 4096)) {
        if (byte == 0) break;
        out += static_cast<char>(byte);
    }
    return out;
}

/// What the file itself tells: a resource, a system's release file, a loader's mark, the last line of its SBAT section.
std::string version_of(const ByteSource& file, const PeImage& image) {
    if (const auto version = pe_version(file); version && !version->file_version.empty())
        return version->product.empty() ? version->file_version
                                        : fmt::format("{} {}", version->product, version->file_version);
    if (const auto text = section_text(file, image, ".osrel"); !text.empty()) {
        const auto at = text.find("PRETTY_NAME=");
        if (at != std::string::npos) {
            std::string name = text.substr(at + 12, text.find('\n', at) - at - 12);
            std::erase(name, '"');
            return printable(name);
        }
    }
    if (auto text = section_text(file, image, ".sdmagic"); text.starts_with("#### ") && text.size() > 10) {
        const auto end = text.find(" ####", 5);
        if (end != std::string::npos) text = text.substr(5, end - 5);
        if (text.starts_with("LoaderInfo: ")) text.erase(0, 12);
        return printable(text);
    }
    const auto sbat = image_sbat(file);
    if (sbat.size() < 2) return {};
    // component, generation, vendor, package, version, address
    std::vector<std::string> words(1);
    for (const char c : sbat.back().rest) {
        if (c == ',') words.emplace_back();
        else words.back() += c;
    }
    return words.size() >= 3 ? fmt::format("{} {}", words[1], words[2]) : std::string();
}

class Search {
public:
    Search(const Volume& volume, EfiMachine machine, std::vector<EfiFile>& out)
        : volume_(volume), machine_(machine), out_(out) {}

    void directory(const std::string& path, int depth) {
        const FileSystem* fs = volume_.files(Observer::Uefi);
        const auto found =
            fs != nullptr ? resolve(*fs, path.empty() ? "/" : path) : fail(ErrorKind::NotFound, "no file system");
        const auto names = found && found->file.type == FileType::Directory ? fs->list(found->file.id)
                                                                            : fail(ErrorKind::NotFound, "none");
        if (!names) return;
        for (const auto& entry : *names) {
            if (entry.name == "." || entry.name == ".." || out_.size() >= most_files) continue;
            const std::string full = path + "/" + entry.name;
            if (entry.type == FileType::Directory) {
                if (depth > 0 && (!path.empty() || lower_text(entry.name) == "efi")) directory(full, depth - 1);
            } else if (lower_text(entry.name).ends_with(".efi")) {
                file(*fs, entry.id, full);
            }
        }
    }

private:
    void file(const FileSystem& fs, FileId id, const std::string& path) {
        EfiFile one;
        one.place = fmt::format("{}:{}", volume_.place, path);
        const auto source = fs.open(id, one.place);
        if (!source) {
            one.problem = source.error().what;
            out_.push_back(std::move(one));
            return;
        }
        one.application = identify_efi_application(**source);
        const auto image = inspect_pe(**source);
        // PCs have firmware of either width.
        const bool narrow = image && image->machine == efi_machine(EfiMachine::Ia32).image;
        const auto kind = narrow && machine_ == EfiMachine::X64 ? EfiMachine::Ia32 : machine_;
        if (const auto refused = refuse_efi_image(**source, kind)) one.problem = refused->why;
        if (image) {
            one.machine = pe_machine_name(image->machine);
            one.version = version_of(**source, *image);
            for (const auto& signature : image_signatures(**source)) {
                std::string signer =
                    signature.chain.empty() ? "a certificate that it does not bring" : signature.chain.front().subject;
                if (!signature.digest_matches) signer += " (for other content)";
                one.signers.push_back(std::move(signer));
            }
        }
        out_.push_back(std::move(one));
    }

    const Volume& volume_;
    EfiMachine machine_;
    std::vector<EfiFile>& out_;
};

}  // namespace

std::vector<EfiFile> find_efi_files(const Machine& machine, const UefiVariables& variables, EfiMachine kind) {
    std::vector<EfiFile> out;
    const Machine view = after_uefi_firmware(machine);
    const auto seen = uefi_volumes(view);
    for (const auto& volume : seen.volumes) Search(*volume, kind, out).directory("", most_depth);
    const auto points = [&](std::string_view place, const std::string& who) {
        const std::string wanted = lower_text(place);
        for (auto& file : out)
            if (lower_text(file.place) == wanted && std::ranges::find(file.named_by, who) == file.named_by.end())
                file.named_by.push_back(who);
    };
    for (const auto& state : inspect_boot_options(view, variables, kind))
        if (!state.place.empty())
            points(state.place,
                   fmt::format("Boot{:04X} “{}”{}", state.option.number, printable(state.option.description),
                               state.option.active ? "" : " (inactive)"));
    for (const auto& volume : seen.volumes) {
        for (const auto& row : efi_machines())
            points(fmt::format("{}:{}", volume->place, row.fallback),
                   row.machine == EfiMachine::X64    ? std::string("the firmware's fallback rule")
                   : row.machine == EfiMachine::Ia32 ? std::string("the fallback rule of 32-bit firmware")
                                                     : fmt::format("the fallback rule of {} firmware", row.words));
        for (const auto& [name, processor] : other_fallback_names())
            points(fmt::format("{}:{}", volume->place, name),
                   fmt::format("the fallback rule of {} firmware", processor));
    }
    for (const auto& menu : read_menus(view, variables)) {
        std::vector<const MenuEntry*> all;
        walk::collect_leaves(menu.entries, all);
        for (const auto* entry : all)
            for (const auto& kernel : entry->kernel)
                points(fmt::format("{}:{}", kernel.volume != nullptr ? kernel.volume->place : std::string(),
                                   kernel.real_path),
                       fmt::format("“{}” of {}", entry->title, menu.place));
    }
    // shim starts its second stage from its own directory.
    for (std::size_t i = 0; i < out.size(); ++i)
        if (out[i].application == EfiApplication::Shim) {
            const std::string directory = out[i].place.substr(0, out[i].place.rfind('/'));
            for (const auto& row : efi_machines())
                for (const std::string_view name : {"grub", "mm", "fb"})
                    points(fmt::format("{}/{}{}.efi", directory, name, row.suffix), out[i].place);
        }
    return out;
}

}  // namespace herberge
