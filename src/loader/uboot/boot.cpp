// SPDX-License-Identifier: MIT
// What is started: scripts, and kernels with RAM disk and device tree (boot/bootm.c, boot/image-fit.c,
// boot/image-board.c, cmd/booti.c, cmd/bootz.c, cmd/source.c of 2023.01).
#include <fmt/format.h>
#include <algorithm>

#include <herberge/lines.hpp>

#include "artifact/boot_image.hpp"
#include "loader/uboot/console.hpp"

namespace herberge::loader::uboot {

void refuse(MenuEntry& entry, Finding why) {
    if (entry.stop) return;
    for (auto& line : lines_of(why.symptom)) entry.messages.push_back({std::move(line), {}, 0});
    entry.stop = std::move(why);
}

void refuse(MenuEntry& entry, Code code, std::string text, std::vector<Evidence> evidence, std::string screen) {
    refuse(entry, make_finding(code, std::move(text), std::move(evidence), std::move(screen)));
}

Evidence bytes_of(const Loaded& held, std::uint64_t at, std::uint64_t length, std::string expected, std::string found) {
    return evidence_bytes(*held.bytes, at, std::min(length, held.size - std::min(at, held.size)), std::move(expected),
                          std::move(found));
}

namespace {

constexpr std::uint64_t most_script = std::uint64_t{1} << 20U;

/// "addr#conf:sub" in its parts.
struct Address {
    std::optional<std::uint64_t> number;
    std::string configuration, size;
};
Address split(std::string_view word) {
    Address out;
    const auto mark = word.find_first_of("#:");
    out.number = number_of(word.substr(0, mark));
    if (mark == std::string_view::npos) return out;
    if (word[mark] == ':') {
        out.size = word.substr(mark + 1);
        return out;
    }
    out.configuration = word.substr(mark + 1);
    out.configuration.resize(std::min(out.configuration.find_first_of("#:"), out.configuration.size()));
    return out;
}

/// Where the mark lies that a boot command looks for: first byte and size.
std::pair<std::uint64_t, std::uint64_t> mark_of(std::string_view command) {
    if (command == "bootz") return {36, 4};
    return command == "booti" ? std::pair<std::uint64_t, std::uint64_t>{56, 4}
                              : std::pair<std::uint64_t, std::uint64_t>{0, 4};
}

bool marked(const Loaded& held, std::uint64_t offset, std::uint64_t at, std::string_view mark) {
    const auto bytes = held.bytes->bytes(offset + at, mark.size());
    return bytes && std::equal(mark.begin(), mark.end(), bytes->begin(),
                               [](char a, std::uint8_t b) { return static_cast<std::uint8_t>(a) == b; });
}

constexpr std::string_view tree_mark("\xD0\x0D\xFE\xED", 4);
constexpr std::string_view legacy_mark("\x27\x05\x19\x56", 4);

}  // namespace

void Console::take_down(MenuEntry& entry, Finding why) {
    if (entry.stop) return;
    dead_ = true;
    refuse(entry, std::move(why));
}

bool Console::verifies() const {
    const auto set = value("verify");
    return set.empty() || (set[0] != 'n' && set[0] != 'N' && set[0] != '0' && set[0] != 'f');
}

bool Console::in_memory(std::uint64_t address) const {
    // How much memory a board has is not told by an image; below its begin there is none.
    return board_.ram_at == 0 || address >= board_.ram_at;
}

Menu Console::script_menu(MenuEntry entry) const {
    Menu out;
    out.loader = "U-Boot";
    const auto frame = std::find_if(frames_.rbegin(), frames_.rend(), [](const Frame& f) { return !f.place.empty(); });
    out.place = frame != frames_.rend() ? frame->place : "U-Boot's environment";
    out.timeout = 0;
    out.style = MenuStyle::Countdown;
    out.boots_without_menu = true;
    out.after_error = "=>";
    entry.place = out.place;
    entry.line = frame != frames_.rend() ? std::max(1, line_) : 0;
    if (entry.title.empty())
        entry.title =
            fmt::format("{}{}", out.place.substr(out.place.rfind('/') + 1), frame != frames_.rend() ? "" : ": bootcmd");
    out.direct.push_back(std::move(entry));
    return out;
}

int Console::do_source(const Words& words) {
    const auto address = words.size() > 1 ? split(words[1]) : Address{};
    const Loaded* held = address.number ? at(*address.number) : nullptr;
    if (held == nullptr) {
        if (address.number)
            if (const auto missing = not_loaded_.find(*address.number); missing != not_loaded_.end())
                troubles_.push_back(missing->second);
        if (address.number && !blind_at(*address.number).empty()) return unfollowed("source");
        return 1;
    }
    const auto refused = [&](const std::string& why, std::string expected, std::string found,
                             const std::string& screen) {
        trouble(Code::UbootScriptRefused, fmt::format("U-Boot refuses the script {}: {}", held->file.place, why),
                {bytes_of(*held, 0, 64, std::move(expected), std::move(found))}, screen);
        return 1;
    };
    std::uint64_t offset = 0;
    std::uint64_t length = 0;
    if (const auto image = inspect_legacy_image(*held->bytes)) {
        if (!image->header_sound)
            return refused("its header fails its checksum", "a matching CRC-32", "another", "Bad header crc");
        if (verifies() && !image->data_sound)
            return refused(image->whole ? "its content fails its checksum" : "it is cut short", "a matching CRC-32",
                           "another", "Bad data crc");
        if (image->header.type != uboot_id::script || image->parts.empty())
            return refused("it is no script", "type 6", fmt::format("type {}", image->header.type), "Bad image type");
        offset = image->parts.front().first;
        length = image->parts.front().second;
    } else if (marked(*held, 0, 0, tree_mark)) {
        const auto fit = Fit::open(held->bytes);
        if (!fit)
            return refused(fit.error().what, "a whole image tree", fit.error().text(), "Bad FIT script image format");
        std::string name = address.configuration;
        for (const auto& one : fit->images())
            if (const auto part = fit->image(one); name.empty() && part && part->type == "script") name = part->name;
        const auto part = fit->image(name);
        if (!part || !part->data_there)
            return refused("it has no script", "an image of type script", "none", "Can't find script subimage");
        if (verifies() && std::ranges::any_of(part->hashes, [](const auto& h) { return h.known && !h.matches; }))
            return refused("a hash of its script does not match", "the stored hash", "another",
                           "Bad hash of FIT script");
        offset = part->offset;
        length = part->length;
    } else {
        return refused(
            "it begins with no mark of an image (a plain text is none)", "27 05 19 56",
            hex(held->bytes->bytes(0, std::min<std::uint64_t>(4, held->size)).value_or(std::vector<std::uint8_t>{})),
            "Wrong image format for \"source\" command");
    }
    const auto text = held->bytes->bytes(offset, std::min(length, most_script));
    if (!text) return 1;
    const std::string content(text->begin(), text->end());
    return run_text(content, {held->file.place, {}});
}

void Console::nothing_at(std::uint64_t address, const BootWords& words, MenuEntry& entry) {
    if (auto why = blind_at(address); !why.empty()) {
        entry.unread = std::move(why);
        return;
    }
    if (const auto missing = not_loaded_.find(address); missing != not_loaded_.end()) {
        refuse(entry, missing->second.why);
        return;
    }
    const bool flat = words.command == "booti";
    const std::string screen = flat ? "Bad Linux ARM64 Image magic!"
                               : words.command == "bootz"
                                   ? "zimage: Bad magic!"
                                   : "Wrong Image Format for bootm command\nERROR: can't get kernel image!";
    refuse(entry, Code::UbootCommandsEnd,
           fmt::format("{} is to start what lies at {:#x}, and nothing was loaded there", words.command, address),
           {here(words.kernel)}, screen);
}

void Console::take_kernel(const BootWords& words, MenuEntry& entry, std::string& ramdisk, std::string& tree) {
    const auto address = split(words.kernel);
    if (!address.number)
        return refuse(entry, Code::UbootCommandsEnd, fmt::format("{} is not told where the kernel lies", words.command),
                      {here(words.kernel)}, "Wrong Image Format for bootm command");
    const Loaded* held = at(*address.number);
    if (held == nullptr) return nothing_at(*address.number, words, entry);
    if (held->address != *address.number)
        return refuse(entry, Code::UbootImageRefused,
                      fmt::format("{} begins in the middle of {}", words.command, held->file.place),
                      {here(words.kernel)}, "Wrong Image Format for bootm command");
    if (!held->overwritten_by.empty()) {
        auto why = make_finding(Code::UbootOverwritten,
                                fmt::format("{} lies at {:#x}, and {} was loaded over a part of it", held->file.place,
                                            held->address, held->overwritten_by),
                                {here(words.kernel)}, "(nothing)");
        // bootm finds that out by a checksum; the others by nothing, as long as the mark is whole.
        const auto [offset, size] = mark_of(words.command);
        const bool noticed = (words.command == "bootm" && verifies()) ||
                             peek(*address.number + offset, size) != held->bytes->bytes(offset, size);
        return noticed ? refuse(entry, std::move(why)) : take_down(entry, std::move(why));
    }
    if (words.command == "bootm") {
        if (marked(*held, 0, 0, legacy_mark)) return take_legacy(*held, entry);
        if (marked(*held, 0, 0, tree_mark)) return take_fit(*held, address.configuration, entry, ramdisk, tree);
        if (build_.android && is_android(*held->bytes)) return take_android(*held, entry, ramdisk, tree);
        return refuse(entry, Code::UbootImageRefused,
                      fmt::format("{} is neither a legacy image nor an image tree", held->file.place),
                      {bytes_of(*held, 0, 4, "27 05 19 56 or d0 0d fe ed",
                                hex(held->bytes->bytes(0, std::min<std::uint64_t>(4, held->size))
                                        .value_or(std::vector<std::uint8_t>{})))},
                      "Wrong Image Format for bootm command\nERROR: can't get kernel image!");
    }
    entry.kernel.push_back(held->file);
    if (words.command == "bootz") {
        if (!marked(*held, 0, 36, std::string_view("\x18\x28\x6F\x01", 4)))
            refuse(entry, Code::UbootImageRefused, fmt::format("{} lacks the mark of a zImage", held->file.place),
                   {bytes_of(*held, 36, 4, "18 28 6f 01",
                             hex(held->bytes
                                     ->bytes(36, std::min<std::uint64_t>(
                                                     4, held->size - std::min<std::uint64_t>(held->size, 36)))
                                     .value_or(std::vector<std::uint8_t>{})))},
                   "zimage: Bad magic!");
        return;
    }
    const auto head = held->bytes->bytes(0, std::min<std::uint64_t>(64, held->size));
    const auto packing = head && head->size() >= 6 ? recognise_board_compression(*head) : Compression::None;
    if (packing != Compression::None) {
        for (const char* name : {"kernel_comp_addr_r", "kernel_comp_size"})
            if (number_of(value(name)).value_or(0) == 0)
                return refuse(entry, Code::UbootImageRefused,
                              fmt::format("{} is packed by {}, and the variable {} is not set: U-Boot has no place to "
                                          "unpack it to",
                                          held->file.place, compression_name(packing), name),
                              {bytes_of(*held, 0, 6, "a kernel image that is not packed", hex(*head)), here()},
                              "kernel_comp_addr_r or kernel_comp_size is not provided!");
        if (auto why = cannot_unpack(*held, 0, held->size, packing)) refuse(entry, std::move(*why));
        return;
    }
    const bool riscv = board_.processor == Processor::Riscv64;
    if (!marked(*held, 0, 56, riscv ? std::string_view("RSC\x05", 4) : std::string_view("ARM\x64", 4)))
        refuse(entry, Code::UbootImageRefused, fmt::format("{} lacks the mark of a kernel image", held->file.place),
               {bytes_of(*held, 56, 4, riscv ? "52 53 43 05" : "41 52 4d 64",
                         head && head->size() >= 60 ? hex(std::span(*head).subspan(56, 4)) : std::string("too short"))},
               riscv ? "Bad Linux RISCV Image magic!" : "Bad Linux ARM64 Image magic!");
}

void Console::take_ramdisk(const std::string& word, MenuEntry& entry) {
    if (word.empty() || word == "-") return;
    const auto address = split(word);
    if (!address.number) return;
    const Loaded* held = at(*address.number);
    if (held == nullptr && !blind_at(*address.number).empty()) {
        entry.unread = blind_at(*address.number);
        return;
    }
    if (held == nullptr) {
        FileReference missing;
        missing.written = word;
        missing.line = line_;
        missing.miss(Lack::Absent, "nothing was loaded there");
        if (const auto why = not_loaded_.find(*address.number); why != not_loaded_.end())
            missing.written = why->second.why.text;
        entry.ramdisks.push_back(std::move(missing));
        return;
    }
    if (!held->overwritten_by.empty()) {
        // Only an image of U-Boot's has a checksum that tells.
        const bool noticed = marked(*held, 0, 0, legacy_mark) && verifies();
        auto why = make_finding(noticed ? Code::UbootRamdiskRefused : Code::UbootOverwritten,
                                fmt::format("the RAM disk {} lies at {:#x}, and {} was loaded over a part of it",
                                            held->file.place, held->address, held->overwritten_by),
                                {here(word)}, noticed ? "Ramdisk image is corrupt or invalid" : "(nothing)");
        if (noticed) refuse(entry, std::move(why));
        else take_down(entry, std::move(why));
    }
    if (const auto image = inspect_legacy_image(*held->bytes)) {
        if (!image->header_sound || (verifies() && !image->data_sound))
            refuse(entry, Code::UbootRamdiskRefused,
                   fmt::format("the RAM disk {} fails its checksum", held->file.place),
                   {bytes_of(*held, 0, 64, "matching CRC-32s", "another")}, "Ramdisk image is corrupt or invalid");
        entry.ramdisks.push_back(part_of(*held, LegacyImage::data_at, image->header.size));
        return;
    }
    if (address.size.empty() && !marked(*held, 0, 0, tree_mark))
        refuse(entry, Code::UbootRamdiskRefused,
               fmt::format("the RAM disk {} is no image of U-Boot's, and its size is not given", held->file.place),
               {here(word)}, "Wrong Ramdisk Image Format\nRamdisk image is corrupt or invalid");
    const auto size = number_of(address.size);
    // A size that another file left behind: less than the RAM disk has cuts it.
    if (size && *size < held->size) entry.ramdisks.push_back(part_of(*held, 0, *size));
    else entry.ramdisks.push_back(held->file);
}

void Console::take_tree(const BootWords& words, const std::string& word, MenuEntry& entry) {
    if (word.empty() || word == "-") {
        if (dies_without_tree() && entry.devicetree.empty())
            take_down(entry, make_finding(Code::UbootTreeRefused,
                                          "no device tree is named for the kernel, and this U-Boot starts none without",
                                          {here()}, "FDT and ATAGS support not compiled in\nresetting ..."));
        return;
    }
    const auto address = split(word);
    if (!address.number || word == value("fdt_addr") || word == value("fdtcontroladdr")) return;
    const Loaded* held = at(*address.number);
    if (held == nullptr) {
        if (auto why = blind_at(*address.number); !why.empty()) {
            entry.unread = std::move(why);
            return;
        }
        if (const auto why = not_loaded_.find(*address.number); why != not_loaded_.end()) {
            refuse(entry, why->second.why);
            return;
        }
        return refuse(entry, Code::UbootCommandsEnd,
                      fmt::format("a device tree is to lie at {:#x}, and nothing was loaded there", *address.number),
                      {here(word)}, "ERROR: Did not find a cmdline Flattened Device Tree");
    }
    entry.devicetree.push_back(held->file);
    if (!held->overwritten_by.empty()) {
        const auto why = [&](const char* screen) {
            return make_finding(Code::UbootOverwritten,
                                fmt::format("the device tree {} lies at {:#x}, and {} was loaded over a part of it",
                                            held->file.place, held->address, held->overwritten_by),
                                {here(word)}, screen);
        };
        const std::vector<std::uint8_t> mark(tree_mark.begin(), tree_mark.end());
        if (peek(*address.number, mark.size()) == mark)
            return take_down(entry, why("FDT_ERR_BADSTRUCTURE\nFDT creation failed!"));
        return refuse(entry, why("ERROR: Did not find a cmdline Flattened Device Tree"));
    }
    if (marked(*held, 0, 0, legacy_mark)) return;
    const auto tree = DeviceTree::open(*held->bytes);
    if (tree) {
        std::vector<const Loaded*> parts;
        for (const auto& given : {words.kernel, words.ramdisk})
            if (const auto part = split(given).number)
                if (const Loaded* one = at(*part)) parts.push_back(one);
        return look_at_reservations(*tree, held->file.place, parts);
    }
    const bool mark = marked(*held, 0, 0, tree_mark);
    auto why = make_finding(
        Code::UbootTreeRefused, fmt::format("the device tree {} is damaged: {}", held->file.place, tree.error().what),
        {evidence_error(tree.error())},
        mark ? "FDT_ERR_BADSTRUCTURE\nFDT creation failed!"
             : "ERROR: Did not find a cmdline Flattened Device Tree\nCould not find a valid device tree");
    // Without its mark it is looked at before, the rest only on the way into the kernel.
    if (mark) take_down(entry, std::move(why));
    else refuse(entry, std::move(why));
}

/// arch/arm/lib/image.c, booti_setup: to a multiple of 2 MiB, and to the begin of memory where its header asks for
/// that.
std::optional<std::pair<std::uint64_t, std::uint64_t>> Console::moved_to(const ByteSource& kernel, std::uint64_t at,
                                                                         bool forced) const {
    constexpr std::uint64_t unit = std::uint64_t{2} << 20U;
    constexpr std::uint64_t old_offset = 0x80000, old_size = std::uint64_t{16} << 20U, anywhere = 8;
    const auto head = kernel.load<ondisk::Arm64Image>(0);
    if (board_.processor != Processor::Arm64 || !head) return std::nullopt;
    const bool old = head->image_size == 0;
    const std::uint64_t offset = old ? old_offset : std::uint64_t{head->text_offset};
    const std::uint64_t size = old ? old_size : std::uint64_t{head->image_size};
    const bool stays = !forced && (head->flags & anywhere) != 0 && at >= offset;
    if (!stays && board_.ram_at == 0) return std::nullopt;
    const std::uint64_t base = stays ? at - offset : board_.ram_at;
    constexpr std::uint64_t most = std::uint64_t{1} << 48U;
    if (base > most || offset > most || size > most) return std::nullopt;
    const std::uint64_t to = (base + unit - 1) / unit * unit + offset;
    if (to == at) return std::nullopt;
    return std::pair{to, size};
}

/// The kernel that booti, or bootm of one that says no place, moves; `forced`: to the begin of memory in any case.
Source Console::kernel_to_move(const Loaded& held, const std::string& command, const MenuEntry& entry,
                               bool& forced) const {
    if (command == "booti") return held.bytes;
    std::uint64_t offset = 0;
    if (const auto legacy = inspect_legacy_image(*held.bytes)) {
        forced = legacy->header.type == uboot_id::kernel_anywhere;
        offset = LegacyImage::data_at;
    } else if (const auto fit = Fit::open(held.bytes)) {
        const auto* chosen = fit->find(entry.id);
        const auto image = chosen != nullptr ? fit->image(chosen->kernel) : std::nullopt;
        forced = image && image->type == "kernel_noload";
        if (image) offset = image->offset;
    }
    if (!forced || offset >= held.size) return nullptr;
    return slice(held.bytes, offset, held.size - offset, held.bytes->place());
}

/// What lies where the kernel is moved to is lost: RAM disk and device tree are looked at after that.
void Console::look_at_move(const BootWords& words, const std::string& ramdisk, const std::string& tree,
                           MenuEntry& entry) {
    const auto address = split(words.kernel).number;
    const Loaded* held = address ? at(*address) : nullptr;
    if (entry.stop || held == nullptr || words.command == "bootz") return;
    bool forced = false;
    const auto kernel = kernel_to_move(*held, words.command, entry, forced);
    const auto place = kernel != nullptr ? moved_to(*kernel, *address, forced) : std::nullopt;
    if (!place) return;
    const std::uint64_t begin = place->first;
    const std::uint64_t size = place->second;
    const auto lies_there = [&](const std::string& word) {
        const auto where = split(word).number;
        const Loaded* other = where ? at(*where) : nullptr;
        const std::uint64_t length = other != nullptr && other != held ? other->size : 1;
        return where && *where < begin + size && begin < *where + length;
    };
    const auto lost = [&](std::string_view what, const std::string& word, const std::string& screen) {
        take_down(entry,
                  make_finding(Code::UbootOverwritten,
                               fmt::format("U-Boot moves the kernel to {:#x}, up to {:#x}, over the {} at {}", begin,
                                           begin + size, what, word),
                               {bytes_of(*held, 0, 64, "a kernel that stays where it is", fmt::format("{:#x}", begin)),
                                here(word)},
                               screen));
    };
    if (lies_there(tree))
        lost("device tree", tree, "ERROR: image is not a fdt - must RESET the board to recover.\nFDT creation failed!");
    else if (lies_there(ramdisk)) lost("RAM disk", ramdisk, "(nothing)");
}

MenuEntry Console::prepare(const BootWords& words) {
    MenuEntry out;
    out.kind = EntryKind::Linux;
    out.started_by = KernelEntry::Board;
    out.arguments = value("bootargs");
    std::string ramdisk = words.ramdisk;
    std::string tree = words.tree;
    take_kernel(words, out, ramdisk, tree);
    if (out.unread.empty()) take_ramdisk(ramdisk, out);
    const auto before = out.devicetree.size();
    if (out.unread.empty()) take_tree(words, tree, out);
    // Without the variable, what the tree says stays (boot/fdt_support.c, fdt_chosen).
    if (!variables_.contains("bootargs") && !out.devicetree.empty()) {
        const bool named = out.devicetree.size() > before;
        const auto& file = named ? out.devicetree.back() : out.devicetree.front();
        const auto bytes = named || tree.empty() || tree == "-" ? open_file(file) : nullptr;
        const auto own =
            bytes != nullptr ? DeviceTree::open(*bytes) : fail(ErrorKind::NotFound, "the board's own tree");
        if (own) out.arguments = own->text(own->node("/chosen"), "bootargs");
    }
    if (out.unread.empty()) look_at_move(words, ramdisk, tree, out);
    out.kernel_loaded = !out.stop;
    return out;
}

int Console::do_boot(const Words& words) {
    BootWords asked;
    asked.command = words[0];
    asked.kernel = words.size() > 1 ? words[1] : value("loadaddr");
    if (words.size() > 2) asked.ramdisk = words[2];
    if (words.size() > 3) asked.tree = words[3];
    auto entry = prepare(asked);
    if (entry.kernel_loaded) {
        started_ = script_menu(std::move(entry));
        return 0;
    }
    const Finding why = *entry.stop;
    trouble(why.code, why.text, why.evidence, why.symptom, script_menu(std::move(entry)));
    return 1;
}

/// What U-Boot's own loader of EFI applications asks for (lib/efi_loader/efi_image_loader.c, efi_check_pe); where the
/// sections lie it does not check.
std::optional<Finding> Console::refuse_application(const Loaded& held) const {
    const auto& own = efi_machine_for(board_.processor);
    const auto image = inspect_pe(*held.bytes);
    constexpr std::uint16_t old_arm = 0x01C0, new_arm = 0x01C4;
    if (!image)
        return make_finding(Code::EfiImageRefused,
                            fmt::format("U-Boot does not start {}: {}", held.file.place, image.error().what),
                            {evidence_error(image.error())}, "Loading image failed");
    const bool arm = board_.processor == Processor::Arm && (image->machine == old_arm || image->machine == new_arm);
    if (image->machine == own.image || arm) return std::nullopt;
    return make_finding(
        Code::EfiImageRefused,
        fmt::format("U-Boot does not start {}: it is for {}", held.file.place, pe_machine_name(image->machine)),
        {evidence_place(held.file.place, fmt::format("an EFI application for {}", pe_machine_name(own.image)),
                        pe_machine_name(image->machine))},
        fmt::format("Machine type 0x{:04x} is not supported\nLoading image failed", image->machine));
}

int Console::do_bootefi(const Words& words) {
    if (words.size() < 2) return 1;
    if (words[1] == "bootmgr") {
        say("EFI boot manager: Cannot load any image");
        return 1;
    }
    const auto address = number_of(words[1]);
    const Loaded* held = address ? at(*address) : nullptr;
    if (held == nullptr) return address && !blind_at(*address).empty() ? unfollowed("bootefi") : 1;
    MenuEntry entry;
    entry.kind = EntryKind::Chainload;
    entry.title = held->file.real_path;
    entry.arguments = value("bootargs");
    entry.kernel.push_back(held->file);
    // A kernel with an EFI stub is started like any other.
    const bool kernel =
        marked(*held, 0, 56, std::string_view("ARM\x64", 4)) || marked(*held, 0, 56, std::string_view("RSC\x05", 4));
    if (kernel) {
        entry.kind = EntryKind::Linux;
        entry.started_by = KernelEntry::Board;
    } else if (auto why = refuse_application(*held)) {
        // No system's own entry: nothing tells whose the application is.
        trouble(why->code, why->text, why->evidence, why->symptom);
        return 1;
    }
    entry.kernel_loaded = true;
    if (held->file.volume != nullptr) entry.chain = ChainTarget{held->file.volume->place, {}};
    started_ = script_menu(std::move(entry));
    return 0;
}

}  // namespace herberge::loader::uboot
