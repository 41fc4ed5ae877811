// SPDX-License-Identifier: MIT
#include "inputs.hpp"

#include <fmt/format.h>
#include <charconv>
#include <cstdio>
#include <filesystem>
#include <fstream>
#include <sstream>

namespace tool {

using namespace herberge;

namespace {

template <class Number>
bool take(std::string_view& text, Number& out) {
    const auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), out);
    if (error != std::errc{} || end == text.data()) return false;
    text.remove_prefix(static_cast<std::size_t>(end - text.data()));
    return true;
}

}  // namespace

int complain(int status, const std::string& text) {
    fmt::print(stderr, "herberge: {}\n", text);
    return status;
}

bool take_number(std::string_view& text, int& out) { return take(text, out); }
bool take_number(std::string_view& text, std::uint64_t& out) { return take(text, out); }
bool take_number(std::string_view& text, double& out) { return take(text, out); }

std::optional<std::string> input_text(const std::string& path) {
    constexpr std::uint64_t most = std::uint64_t{64} << 20U;
    const auto file = open_image(path, 0);
    const auto text = file ? (*file)->text(most) : tl::unexpected(file.error());
    if (text) return *text;
    std::error_code ignored;
    if (std::filesystem::is_regular_file(path, ignored) && std::filesystem::file_size(path, ignored) == 0)
        return std::string{};
    complain(Exit::unreadable, printable(text.error().text()));
    return std::nullopt;
}

/// PLACE=FILE; the file's content goes into memory that is wiped, and into nothing else.
bool Inputs::read_keys(const std::vector<std::string>& unlock) {
    constexpr std::uintmax_t most = std::uintmax_t{8} << 20U;  // as cryptsetup: longer key files are cut there
    for (const auto& one : unlock) {
        const auto equals = one.find('=');
        const std::string path = equals == std::string::npos ? std::string{} : one.substr(equals + 1);
        if (equals == 0 || path.empty()) {
            status = complain(Exit::usage, "--unlock wants PLACE=FILE, such as d1p2=key.txt");
            return false;
        }
        std::error_code why;
        const auto size = std::filesystem::is_regular_file(path, why) ? std::filesystem::file_size(path, why) : 0;
        // Unbuffered: no copy of the key stays behind.
        std::ifstream in;
        in.rdbuf()->pubsetbuf(nullptr, 0);
        in.open(path, std::ios::binary);
        if (!in || size == 0 || size > most) {
            status =
                complain(Exit::unreadable, printable(fmt::format("{}: {}", path,
                                                                 !in           ? "it cannot be read"
                                                                 : size > most ? "it is too large for a key"
                                                                               : "it is no file, or an empty one")));
            return false;
        }
        Secret secret(std::vector<std::uint8_t>(static_cast<std::size_t>(size)));
        in.read(reinterpret_cast<char*>(secret.bytes().data()), static_cast<std::streamsize>(size));
        if (static_cast<std::uintmax_t>(in.gcount()) != size) {
            status = complain(Exit::unreadable, printable(path + ": it cannot be read"));
            return false;
        }
        keys_.push_back({one.substr(0, equals), std::make_shared<const Secret>(std::move(secret)), path});
    }
    return true;
}

/// One start and one count per line, in sectors; a leading "d2" names the disk; # begins a comment.
bool Inputs::read_unreadable(const std::string& path) {
    const auto text = input_text(path);
    if (!text) return false;
    std::istringstream file(*text);
    std::string line;
    for (int number = 1; std::getline(file, line); ++number) {
        line.resize(std::min(line.find('#'), line.size()));
        std::istringstream words(line);
        std::string word;
        int disk = 1;
        if (!(words >> word)) continue;
        std::string_view name(word);
        if (name.starts_with('d')) {
            name.remove_prefix(1);
            if (!take_number(name, disk) || !name.empty() || !(words >> word)) word = "?";
        }
        std::uint64_t first = 0;
        std::uint64_t count = 0;
        std::string_view digits(word);
        const bool good = take_number(digits, first) && digits.empty() && (words >> count) &&
                          first < (std::uint64_t{1} << 54U) && count < (std::uint64_t{1} << 54U);
        if (!good || (words >> word)) {
            status = complain(Exit::usage, fmt::format("{}:{}: not a first sector and a count", path, number));
            return false;
        }
        unreadable_[disk].emplace_back(first * 512, count * 512);
    }
    return true;
}

/// dN=WORDS, or dN=FILE: what stands in it up to its first line's end.
bool Inputs::divide(Disk& disk, const std::vector<std::string>& layouts) {
    const std::string head = fmt::format("d{}=", disk.number);
    for (const auto& one : layouts) {
        if (!one.starts_with(head)) continue;
        std::string words = one.substr(head.size());
        std::error_code ignored;
        if (std::filesystem::is_regular_file(words, ignored)) {
            const auto text = input_text(words);
            if (!text) return false;
            words = text->substr(0, text->find('\n'));
        }
        const auto parts = parse_flash_layout(words, disk.source->size());
        if (!parts) {
            status = complain(Exit::usage, printable(fmt::format("--flash-layout {}: {}", head, parts.error().what)));
            return false;
        }
        divide_flash(disk, *parts);
    }
    return true;
}

bool Inputs::take_spare_off(const Source& dump, int number, const std::vector<std::string>& shapes,
                            std::optional<NandDump>& out) {
    const std::string head = fmt::format("d{}=", number);
    for (const auto& one : shapes) {
        if (!one.starts_with(head)) continue;
        const auto shape = parse_nand_shape(std::string_view(one).substr(head.size()));
        if (!shape) {
            status = complain(Exit::usage, printable(fmt::format("--nand {}: {}", one, shape.error().what)));
            return false;
        }
        auto opened = open_nand(dump, *shape);
        if (!opened) {
            status = complain(Exit::usage, printable(fmt::format("--nand {}: {}", one, opened.error().text())));
            return false;
        }
        out = std::move(*opened);
    }
    return true;
}

bool Inputs::beside(Disk& disk, const std::vector<std::string>& areas) {
    constexpr std::size_t most = 2;
    const std::string head = fmt::format("d{}=", disk.number);
    for (const auto& one : areas) {
        if (!one.starts_with(head)) continue;
        auto file = open_image(one.substr(head.size()), 0);
        if (!file || disk.boot_areas.size() == most) {
            status = file
                         ? complain(Exit::usage, fmt::format("--boot-area: an eMMC has two, d{} has more", disk.number))
                         : complain(Exit::unreadable, printable(file.error().text()));
            return false;
        }
        disk.boot_areas.push_back(*file);
    }
    return true;
}

bool Inputs::names_images(const std::vector<std::string>& all, std::string_view option, std::string_view wanted,
                          std::size_t images) {
    for (const auto& one : all) {
        std::string_view name(one);
        int disk = 0;
        if (name.starts_with('d')) name.remove_prefix(1);
        if (one.starts_with('d') && take_number(name, disk) && name.starts_with('=') && machine.disk(disk) != nullptr)
            continue;
        status = complain(Exit::usage, printable(fmt::format("{} wants dN={} for one of the {} image{}: {}", option,
                                                             wanted, images, images == 1 ? "" : "s", one)));
        return false;
    }
    return true;
}

bool Inputs::open(const Options& options) {
    if (!options.unreadable.empty() && !read_unreadable(options.unreadable)) return false;
    for (std::size_t i = 0; i < options.images.size(); ++i) {
        const int number = static_cast<int>(i) + 1;
        auto file = open_image(options.images[i], number);
        if (!file) {
            status = complain(Exit::unreadable, printable(file.error().text()));
            return false;
        }
        files.push_back(*file);
        Source source = *file;
        if (const auto bad = unreadable_.find(number); bad != unreadable_.end()) {
            damaged.push_back(with_unreadable(source, std::move(bad->second)));
            source = damaged.back();
        }
        std::optional<NandDump> nand;
        if (!take_spare_off(source, number, options.nand, nand)) return false;
        if (nand) source = nand->content;
        machine.disks.push_back(inspect_disk(source, number, options.images[i]));
        if (nand) {
            machine.disks.back().bad_blocks = std::move(nand->bad_blocks);
            machine.disks.back().erase_block = nand->block;
        }
        if (!beside(machine.disks.back(), options.boot_areas)) return false;
        if (options.optical) into_optical_drive(machine.disks.back());
        if (!divide(machine.disks.back(), options.flash_layouts)) return false;
        if (const auto& problem = machine.disks.back().problem; problem && problem->kind == ErrorKind::Io) {
            status = complain(Exit::unreadable, printable(problem->text()));
            return false;
        }
    }
    if (!names_images(options.flash_layouts, "--flash-layout", "PARTS", options.images.size()) ||
        !names_images(options.nand, "--nand", "PAGE+SPARE", options.images.size()) ||
        !names_images(options.boot_areas, "--boot-area", "FILE", options.images.size()))
        return false;
    if (!read_keys(options.unlock)) return false;
    open_layers(machine, keys_);
    for (const auto& key : keys_) {
        const auto volume = machine.at(key.place);
        if (volume != nullptr && volume->info.is(Family::Luks)) continue;
        status = complain(Exit::usage,
                          printable(volume == nullptr ? fmt::format("--unlock: there is no {} here", key.place)
                                                      : fmt::format("--unlock: {} is no LUKS volume", key.place)));
        return false;
    }
    return true;
}

void Inputs::stats() const {
    std::uint64_t bytes = 0;
    std::uint64_t reads = 0;
    for (const auto& file : files) {
        bytes += file->counters().bytes;
        reads += file->counters().reads;
    }
    const auto took = std::chrono::duration<double, std::milli>(std::chrono::steady_clock::now() - begun_).count();
    fmt::print(stderr, "read {} bytes ({}) in {} reads; {:.1f} ms\n", bytes, size_text(bytes), reads, took);
}

std::string Place::volume() const {
    if (!layered.empty()) return layered;
    return partition != 0 ? fmt::format("d{}p{}", disk, partition) : fmt::format("d{}", disk);
}

std::optional<Place> parse_place(std::string_view text) {
    Place out;
    const auto in_ubi = [&] {
        auto rest = text.starts_with("ubi") ? text.substr(3) : std::string_view{};
        int number = 0;
        return take_number(rest, number) && rest.starts_with('/');
    };
    if (text.starts_with("lvm/") || text.starts_with("md/") || text.starts_with("open/") || in_ubi()) {
        const auto end = std::min(text.find_first_of(":@"), text.size());
        out.layered = text.substr(0, end);
        text.remove_prefix(end);
    } else {
        if (!text.starts_with('d')) return std::nullopt;
        text.remove_prefix(1);
        if (!take_number(text, out.disk)) return std::nullopt;
        if (text.starts_with('p')) {
            text.remove_prefix(1);
            if (!take_number(text, out.partition)) return std::nullopt;
        }
    }
    if (text.empty()) return out;
    if (text.starts_with(':')) {
        out.path = text.substr(1);
        return out;
    }
    if (!text.starts_with('@')) return std::nullopt;
    text.remove_prefix(1);
    std::uint64_t offset = 0;
    if (!take_number(text, offset)) return std::nullopt;
    out.offset = offset;
    if (text.starts_with('+')) {
        text.remove_prefix(1);
        if (!take_number(text, out.length)) return std::nullopt;
    }
    if (!text.empty()) return std::nullopt;
    return out;
}

int walk_options(const Options& options, CheckOptions& wanted) {
    constexpr std::string_view board = "board:";
    wanted.firmware = options.firmware == "bios"             ? FirmwareKind::Bios
                      : options.firmware.starts_with("uefi") ? FirmwareKind::Uefi
                      : options.firmware.starts_with(board)  ? FirmwareKind::Board
                                                             : FirmwareKind::Auto;
    if (wanted.firmware == FirmwareKind::Board) {
        wanted.board = options.firmware.substr(board.size());
        const Board* row = find_board(wanted.board);
        if (row == nullptr)
            return complain(Exit::usage, printable(fmt::format("there is no board {}; `herberge boards` lists those "
                                                               "that are known",
                                                               wanted.board)));
        if (const auto kind = uefi_of(*row)) {
            wanted.firmware = FirmwareKind::Uefi;
            wanted.efi_machine = *kind;
        }
    }
    if (wanted.firmware == FirmwareKind::Board) {
        if (options.variables.empty()) return 0;
        auto flash = open_image(options.variables, 0);
        if (!flash) return complain(Exit::unreadable, printable(flash.error().text()));
        wanted.flash = *flash;
        return 0;
    }
    if (options.firmware == "uefi32") wanted.efi_machine = EfiMachine::Ia32;
    wanted.rehearse = !options.no_rehearsal;
    wanted.secure_boot = options.secure_boot == "on"    ? SecureBoot::On
                         : options.secure_boot == "off" ? SecureBoot::Off
                                                        : SecureBoot::Auto;
    if (options.variables.empty()) return 0;
    auto variables = read_uefi_variables(options.variables);
    if (!variables) return complain(Exit::unreadable, printable(variables.error().text()));
    wanted.variables = std::move(*variables);
    return 0;
}

}  // namespace tool
