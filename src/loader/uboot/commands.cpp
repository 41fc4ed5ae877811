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
        {"[", &Console::do_test},
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
        {"crc32", &Console::do_checksum},
        {"md5sum", &Console::do_checksum},
        {"sha1sum", &Console::do_checksum},
        {"hash", &Console::do_checksum},
        {"unzip", &Console::do_unpack},
        {"lzmadec", &Console::do_unpack},
        {"unlz4", &Console::do_unpack},
        {"imxtract", &Console::do_extract},
        {"iminfo", &Console::do_image_info},
        {"md", &Console::do_true},
        {"md.b", &Console::do_true},
        {"md.w", &Console::do_true},
        {"md.l", &Console::do_true},
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
        {"saveenv", &Console::do_true},
        {"printenv", &Console::do_true},
        {"sleep", &Console::do_true},
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

int Console::do_exit(const Words& /*words*/) {
    // Two releases pass over it.
    const auto version = value("ver");
    leaving_ = version.find(" 2023.01") == std::string::npos && version.find(" 2022.10") == std::string::npos;
    return 0;
}

int Console::do_reset(const Words& words) {
    trouble(Code::UbootCommandsEnd, fmt::format("its commands end with “{}”: nothing was started", words[0]),
            {here(words[0])}, "resetting ...");
    exiting_ = true;
    return 0;
}

int Console::do_setenv(const Words& words) {
    if (words.size() < 2) return 1;
    set(words[1], fmt::format("{}", fmt::join(words.begin() + 2, words.end(), " ")));
    return 0;
}

int Console::import_variables(const Words& words) {
    // env import [-d] [-t [-r] | -b | -c] addr [size] [var ...]
    bool text = false;
    std::size_t i = 2;
    for (; i < words.size() && words[i].starts_with('-'); ++i) text = text || words[i] == "-t";
    const auto address = i < words.size() ? number_of(words[i]) : std::nullopt;
    if (!address) return 1;
    std::uint64_t size = std::uint64_t{1} << 20U;
    if (i + 1 < words.size())
        if (const auto given = number_of(words[i + 1])) size = std::min(size, *given);
    const auto bytes = peek(*address, size);
    if (bytes.empty()) return blind_at(*address).empty() ? 1 : unfollowed("env import");
    if (!text) {
        for (auto& [name, one] : parse_variables(bytes)) set(name, one);
        return 0;
    }
    std::string_view rest(reinterpret_cast<const char*>(bytes.data()), bytes.size());
    while (!rest.empty() && rest.front() != '\0') {
        const auto end = std::min(rest.find('\n'), rest.size());
        auto line = rest.substr(0, end);
        rest.remove_prefix(std::min(end + 1, rest.size()));
        while (!line.empty() && (line.front() == ' ' || line.front() == '\t')) line.remove_prefix(1);
        if (line.empty() || line.front() == '#') continue;
        if (const auto equals = line.find('='); equals != std::string_view::npos)
            set(std::string(line.substr(0, equals)), std::string(line.substr(equals + 1)));
    }
    return 0;
}

int Console::do_env(const Words& words) {
    if (words.size() < 2) return 1;
    if (words[1] == "exists") return words.size() > 2 && variables_.contains(words[2]) ? 0 : 1;
    if (words[1] == "set") return do_setenv({words.begin() + 1, words.end()});
    if (words[1] == "run") return do_run({words.begin() + 1, words.end()});
    if (words[1] == "import") return import_variables(words);
    if (words[1] == "delete") {
        for (std::size_t i = 2; i < words.size(); ++i) variables_.erase(words[i]);
        return 0;
    }
    return 0;  // print, save, default, export: nothing that is looked at here
}

int Console::do_run(const Words& words) {
    for (std::size_t i = 1; i < words.size(); ++i) {
        const int came = run_variable(words[i]);
        if (over()) return came;
        if (came != 0) return 1;
    }
    return words.size() > 1 ? 0 : 1;
}

/// cmd/test.c: operators from the left; -a and -o join what stands beside them.
int Console::do_test(const Words& words) {
    std::size_t count = words.size();
    if (words[0] == "[" && count > 1 && words.back() == "]") --count;
    if (count < 3) return 1;
    bool out = false;
    bool negated = false;
    enum class Join { None, And, Or } join = Join::None;
    const auto signed_of = [](const std::string& text) {
        long long value = 0;
        std::string_view rest(text);
        int base = 10;
        if (rest.starts_with("0x")) {
            rest.remove_prefix(2);
            base = 16;
        }
        std::from_chars(rest.data(), rest.data() + rest.size(), value, base);
        return value;
    };
    for (std::size_t i = 1; i < count;) {
        if (words[i] == "!") {
            negated = !negated;
            ++i;
            continue;
        }
        if (words[i] == "-a" || words[i] == "-o") {
            join = words[i] == "-a" ? Join::And : Join::Or;
            ++i;
            continue;
        }
        bool one = false;
        if ((words[i] == "-n" || words[i] == "-z") && i + 1 < count) {
            one = words[i + 1].empty() == (words[i] == "-z");
            i += 2;
        } else if (words[i] == "-e" && i + 3 < count) {
            one = exists(words, i + 1);
            i += 4;
        } else if (i + 2 < count) {
            const auto& a = words[i];
            const auto& b = words[i + 2];
            const auto& op = words[i + 1];
            if (op == "=" || op == "==") one = a == b;
            else if (op == "!=") one = a != b;
            else if (op == "<") one = a < b;
            else if (op == ">") one = a > b;
            else if (op == "-eq") one = signed_of(a) == signed_of(b);
            else if (op == "-ne") one = signed_of(a) != signed_of(b);
            else if (op == "-lt") one = signed_of(a) < signed_of(b);
            else if (op == "-le") one = signed_of(a) <= signed_of(b);
            else if (op == "-gt") one = signed_of(a) > signed_of(b);
            else if (op == "-ge") one = signed_of(a) >= signed_of(b);
            else return 1;
            i += 3;
        } else {
            return 1;
        }
        one = one != negated;
        negated = false;
        out = join == Join::And ? out && one : join == Join::Or ? out || one : one;
        join = Join::None;
    }
    return out ? 0 : 1;
}

int Console::do_itest(const Words& words) {
    if (words.size() < 4) return 1;
    const auto& op = words[2];
    if (words[0].ends_with(".s")) {
        if (op == "==" || op == "-eq") return words[1] == words[3] ? 0 : 1;
        if (op == "!=" || op == "-ne" || op == "<>") return words[1] != words[3] ? 0 : 1;
        return 1;
    }
    const auto a = number_of(words[1]).value_or(0);
    const auto b = number_of(words[3]).value_or(0);
    if (op == "==" || op == "-eq") return a == b ? 0 : 1;
    if (op == "!=" || op == "<>" || op == "-ne") return a != b ? 0 : 1;
    if (op == "<" || op == "-lt") return a < b ? 0 : 1;
    if (op == ">" || op == "-gt") return a > b ? 0 : 1;
    if (op == "<=" || op == "-le") return a <= b ? 0 : 1;
    if (op == ">=" || op == "-ge") return a >= b ? 0 : 1;
    return 1;
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
    static constexpr std::string_view harmless[] = {"start",   "scan", "rescan",   "info",    "list",        "reset",
                                                    "init",    "stop", "part",     "write",   "erase",       "tree",
                                                    "storage", "wp",   "partconf", "bootbus", "rst-function"};
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
