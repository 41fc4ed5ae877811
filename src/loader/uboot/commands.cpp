// SPDX-License-Identifier: MIT
// U-Boot's commands that only deal with values, and those of devices (cmd/*.c of 2023.01).
#include <fmt/format.h>
#include <fmt/ranges.h>
#include <algorithm>
#include <charconv>

#include "loader/uboot/console.hpp"

namespace herberge::loader::uboot {

const std::vector<Console::Command>& Console::commands() {
    static const std::vector<Command> table = {
        {"echo", &Console::do_echo},
        {"true", &Console::do_true},
        {"false", &Console::do_false},
        {"setenv", &Console::do_setenv},
        {"env", &Console::do_env},
        {"run", &Console::do_run},
        {"test", &Console::do_test},
        {"itest", &Console::do_itest},
        {"itest.b", &Console::do_itest},
        {"itest.w", &Console::do_itest},
        {"itest.l", &Console::do_itest},
        {"itest.s", &Console::do_itest},
        {"setexpr", &Console::do_setexpr},
        {"exit", &Console::do_exit},
        {"setexpr.b", &Console::do_setexpr},
        {"setexpr.w", &Console::do_setexpr},
        {"setexpr.l", &Console::do_setexpr},
        {"setexpr.q", &Console::do_setexpr},
        {"setexpr.s", &Console::do_setexpr},
        {"fdt", &Console::do_fdt},
        {"boot", &Console::do_start_again},
        {"bootd", &Console::do_start_again},
        {"bootelf", &Console::do_start_again},
        {"bootvx", &Console::do_start_again},
        {"go", &Console::do_start_again},
        {"reset", &Console::do_reset},
        {"poweroff", &Console::do_reset},
        // Devices and networks.
        {"mmc", &Console::do_device},
        {"usb", &Console::do_device},
        {"scsi", &Console::do_device},
        {"sata", &Console::do_device},
        {"ide", &Console::do_device},
        {"nvme", &Console::do_device},
        {"virtio", &Console::do_device},
        {"dhcp", &Console::do_network},
        {"bootp", &Console::do_network},
        {"tftpboot", &Console::do_network},
        {"tftp", &Console::do_network},
        {"nfs", &Console::do_network},
        {"pxe", &Console::do_network},
        {"ping", &Console::do_network},
        {"qfw", &Console::do_network},
        // Memory.
        {"mw", &Console::do_fill},
        {"mw.b", &Console::do_fill},
        {"mw.w", &Console::do_fill},
        {"mw.l", &Console::do_fill},
        {"mw.q", &Console::do_fill},
        {"cp", &Console::do_copy},
        {"cp.b", &Console::do_copy},
        {"cp.w", &Console::do_copy},
        {"cp.l", &Console::do_copy},
        {"cp.q", &Console::do_copy},
        {"cmp", &Console::do_compare},
        {"cmp.b", &Console::do_compare},
        {"cmp.w", &Console::do_compare},
        {"cmp.l", &Console::do_compare},
        {"cmp.q", &Console::do_compare},
        {"crc32", &Console::do_checksum},
        {"md5sum", &Console::do_checksum},
        {"sha1sum", &Console::do_checksum},
        {"hash", &Console::do_checksum},
        {"unzip", &Console::do_unpack},
        {"lzmadec", &Console::do_unpack},
        {"unlz4", &Console::do_unpack},
        {"imxtract", &Console::do_extract},
        {"iminfo", &Console::do_image_info},
        {"md", &Console::do_with_words},
        {"md.b", &Console::do_with_words},
        {"md.w", &Console::do_with_words},
        {"md.l", &Console::do_with_words},
        // Media below the files, and flash.
        {"read", &Console::do_read},
        {"sf", &Console::do_flash},
        {"nand", &Console::do_flash},
        {"mtd", &Console::do_mtd},
        {"mtdparts", &Console::do_true},
        {"chpart", &Console::do_flash_files},
        {"ubi", &Console::do_ubi},
        {"ubifsmount", &Console::do_ubifs},
        {"ubifsumount", &Console::do_ubifs},
        {"ubifsls", &Console::do_ubifs},
        {"ubifsload", &Console::do_ubifs},
        {"fsload", &Console::do_flash_files},
        {"abootimg", &Console::do_android},
        {"ab_select", &Console::do_slot},
        // Files and starts.
        {"load", &Console::do_load},
        {"fatload", &Console::do_load},
        {"ext2load", &Console::do_load},
        {"ext4load", &Console::do_load},
        {"ls", &Console::do_list},
        {"fatls", &Console::do_list},
        {"ext2ls", &Console::do_list},
        {"ext4ls", &Console::do_list},
        {"size", &Console::do_list},
        {"fatsize", &Console::do_list},
        {"ext4size", &Console::do_list},
        {"fatinfo", &Console::do_list},
        {"fatwrite", &Console::do_with_words},
        {"ext4write", &Console::do_with_words},
        {"save", &Console::do_with_words},
        {"fatmkdir", &Console::do_with_words},
        {"part", &Console::do_part},
        {"fstype", &Console::do_fstype},
        {"source", &Console::do_source},
        {"bootm", &Console::do_boot},
        {"booti", &Console::do_boot},
        {"bootz", &Console::do_boot},
        {"bootefi", &Console::do_bootefi},
        {"sysboot", &Console::do_sysboot},
        {"bootflow", &Console::do_bootflow},
        // What changes nothing that is looked at here.
        {"saveenv", &Console::do_save},
        {"printenv", &Console::do_printenv},
        {"sleep", &Console::do_with_words},
        {"help", &Console::do_true},
        {"?", &Console::do_true},
        {"fstypes", &Console::do_true},
        {"gpio", &Console::do_true},
        {"led", &Console::do_true},
        {"pci", &Console::do_true},
        {"cls", &Console::do_true},
        {"lcdputs", &Console::do_true},
        {"bmp", &Console::do_true},
        {"version", &Console::do_true},
        {"bdinfo", &Console::do_true},
        {"coninfo", &Console::do_true},
        {"icache", &Console::do_true},
        {"dcache", &Console::do_true},
        {"regulator", &Console::do_true},
    };
    return table;
}

int Console::do_echo(const Words& words) {
    say(fmt::format("{}", fmt::join(words.begin() + 1, words.end(), " ")));
    return 0;
}
int Console::do_true(const Words& /*words*/) { return 0; }
int Console::do_false(const Words& /*words*/) { return 1; }

/// What only works with an argument, and changes nothing that is looked at here.
int Console::do_with_words(const Words& words) { return words.size() > 1 ? 0 : 1; }

int Console::do_exit(const Words& words) {
    // Two releases pass over it, but for what it comes to.
    const auto own = version();
    leaving_ = own.find(" 2023.01") == std::string::npos && own.find(" 2022.10") == std::string::npos;
    const bool failure = words.size() > 1 && words[1].find_first_of("123456789") != std::string::npos &&
                         words[1].find_first_not_of("0123456789") == std::string::npos;
    return failure ? 1 : 0;
}

int Console::do_reset(const Words& words) {
    trouble(Code::UbootCommandsEnd, fmt::format("its commands end with “{}”: nothing was started", words[0]),
            {here(words[0])}, "resetting ...");
    exiting_ = true;
    return 0;
}

int Console::do_setenv(const Words& words) {
    // setenv [-f] name [value ...]
    std::size_t at = 1;
    for (; at < words.size() && words[at].starts_with('-'); ++at)
        if (words[at].find_first_not_of('f', 1) != std::string::npos) return 1;
    if (words.size() < 2) return 1;
    if (at >= words.size()) return 0;
    if (words[at].find('=') != std::string::npos) {
        say(fmt::format("## Error: illegal character '='in variable name \"{}\"", words[at]));
        return 1;
    }
    set(words[at], fmt::format("{}", fmt::join(words.begin() + static_cast<std::ptrdiff_t>(at) + 1, words.end(), " ")));
    return 0;
}

/// The emulated boards have no place for it that may be written.
int Console::do_save(const Words& /*words*/) { return build_.emulated ? 1 : 0; }

int Console::do_printenv(const Words& words) {
    const auto missing = [&](const std::string& name) { return !name.starts_with('-') && !variables_.contains(name); };
    return std::any_of(words.begin() + 1, words.end(), missing) ? 1 : 0;
}

/// himport_r: of a text or a list; with names behind it, those alone.
int Console::import_variables(const Words& words) {
    // env import [-d] [-t [-r] | -b | -c] addr [size] [var ...]
    bool text = false, deletes = false, no_returns = false;
    std::size_t i = 2;
    for (; i < words.size() && words[i].starts_with('-'); ++i) {
        text = text || words[i] == "-t";
        deletes = deletes || words[i] == "-d";
        no_returns = no_returns || words[i] == "-r";
        if (words[i] == "-c") return unfollowed("env import -c");
    }
    const auto address = i < words.size() ? number_of(words[i]) : std::nullopt;
    if (!address) return 1;
    std::uint64_t size = std::uint64_t{1} << 20U;
    if (i + 1 < words.size())
        if (const auto given = number_of(words[i + 1])) size = std::min(size, *given);
    if (size == 0) return 0;
    const auto bytes = peek(*address, size);
    if (bytes.empty()) return blind_at(*address).empty() ? 1 : unfollowed("env import");
    // Of a text, lines that are empty or remarks are left out.
    std::string lines;
    for (std::string_view rest(reinterpret_cast<const char*>(bytes.data()), text ? bytes.size() : 0);
         !rest.empty() && rest.front() != '\0';) {
        const auto end = std::min(rest.find('\n'), rest.size());
        auto line = rest.substr(0, end);
        rest.remove_prefix(std::min(end + 1, rest.size()));
        line.remove_prefix(std::min(line.find_first_not_of(" \t"), line.size()));
        if (no_returns && line.ends_with('\r')) line.remove_suffix(1);
        if (!line.empty() && line.front() != '#') lines += fmt::format("{}\n", line);
    }
    const auto found = text ? parse_variables({reinterpret_cast<const std::uint8_t*>(lines.data()), lines.size()}, '\n')
                            : parse_variables(bytes);
    const Words wanted(words.begin() + static_cast<std::ptrdiff_t>(std::min(i + 2, words.size())), words.end());
    if (deletes && wanted.empty()) variables_.clear();
    for (const auto& name : wanted)
        if (deletes && !found.contains(name)) variables_.erase(name);
    for (const auto& [name, one] : found)
        if (wanted.empty() || std::ranges::find(wanted, name) != wanted.end()) set(name, one);
    return 0;
}

/// env export -t | -b addr name ...: the named ones in memory, in their order, up to a zero.
int Console::export_variables(const Words& words) {
    if (words.size() < 4) return 1;
    const auto address = number_of(words[3]);
    if (!address) return 1;
    if ((words[2] != "-t" && words[2] != "-b") || words.size() < 5) {
        forget(*address, "its commands write their variables there in a form that is not followed");
        return 0;
    }
    std::vector<std::uint8_t> bytes;
    for (const auto& [name, held] : variables_) {
        if (std::find(words.begin() + 4, words.end(), name) == words.end()) continue;
        const char separator = words[2] == "-t" ? '\n' : '\0';
        bytes.insert(bytes.end(), name.begin(), name.end());
        bytes.push_back('=');
        for (const char c : held) {
            if (c == separator || c == '\\') bytes.push_back('\\');
            bytes.push_back(static_cast<std::uint8_t>(c));
        }
        bytes.push_back(static_cast<std::uint8_t>(separator));
    }
    bytes.push_back(0);
    set("filesize", fmt::format("{:x}", bytes.size()));
    put(*address, std::move(bytes), "env export");
    return 0;
}

int Console::do_env(const Words& words) {
    if (words.size() < 2) return 1;
    const Words behind(words.begin() + 1, words.end());
    if (words[1] == "exists") return words.size() > 2 && variables_.contains(words[2]) ? 0 : 1;
    if (words[1] == "set") return do_setenv(behind);
    if (words[1] == "run") return do_run(behind);
    if (words[1] == "print") return do_printenv(behind);
    if (words[1] == "save") return do_save(behind);
    if (words[1] == "import") return import_variables(words);
    if (words[1] == "export") return export_variables(words);
    if (words[1] == "delete") {
        for (std::size_t i = 2; i < words.size(); ++i) variables_.erase(words[i]);
        return 0;
    }
    if (words[1] == "default") return 0;
    // Others are built in seldom.
    return build_.emulated ? 1 : unfollowed("env " + words[1]);
}

int Console::do_run(const Words& words) {
    for (std::size_t i = 1; i < words.size(); ++i) {
        const int came = run_variable(words[i]);
        if (over()) return came;
        if (came != 0) return 1;
    }
    return words.size() > 1 ? 0 : 1;
}

int Console::do_device(const Words& words) {
    if (words.size() > 1 && (words[1] == "dev" || words[1] == "device")) {
        if (words.size() == 2) return 0;
        if (device(words[0], words[2]) == nullptr) {
            say(words[0] == "mmc" ? "MMC: no card present" : fmt::format("Device {}: unknown device", words[2]));
            return 1;
        }
        // A card's chip may have parts of its own beside the one that its image shows.
        const std::string part = words.size() > 3 && words[3] != "0" ? "." + words[3] : std::string{};
        chosen_.insert_or_assign(words[0], words[2] + part);
        return 0;
    }
    if (words.size() > 1 && words[1] == "read") return read_blocks(words);
    if (words.size() > 1 && words[1] == "write") return write_blocks(words);
    static constexpr std::string_view harmless[] = {"start",   "scan",         "rescan",   "info",   "list", "reset",
                                                    "init",    "stop",         "part",     "erase",  "tree", "wp",
                                                    "storage", "rst-function", "partconf", "bootbus"};
    if (words[0] == "usb" && words.size() > 1 && words[1] == "storage" && board_.medium != "usb") return 1;
    return words.size() > 1 && std::ranges::find(harmless, words[1]) != std::end(harmless) ? 0 : 1;
}

int Console::do_network(const Words& /*words*/) {
    say("No ethernet found.");
    return 1;
}

/// "boot": the usual command once more; a kernel of another kind is not followed.
int Console::do_start_again(const Words& words) {
    if (words[0] == "boot" || words[0] == "bootd") return run_variable("bootcmd");
    return unfollowed(words[0]);
}

int Console::unfollowed(const std::string& what) {
    constexpr std::size_t most = 32;
    if (std::ranges::find(unfollowed_, what) == unfollowed_.end() && unfollowed_.size() < most)
        unfollowed_.push_back(what);
    return 1;
}

int Console::do_fdt(const Words& words) {
    if (words.size() < 2) return 1;
    if (words[1] == "addr") {
        for (std::size_t i = 2; i < words.size(); ++i)
            if (const auto address = number_of(words[i])) {
                const bool there =
                    at(*address) != nullptr || words[i] == value("fdtcontroladdr") || words[i] == value("fdt_addr");
                if (there) tree_at_ = *address;
                return there ? 0 : 1;
            }
        return 1;
    }
    if (words[1] == "get" && words.size() > 5) return tree_value(words);
    if (words[1] == "resize") return make_room(words);
    if (words[1] == "apply" && words.size() > 2) return lay_over(words);
    return 0;
}

}  // namespace herberge::loader::uboot
