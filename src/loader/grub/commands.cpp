// SPDX-License-Identifier: MIT
// GRUB's commands that steer a script: variables, tests, files read, devices searched.
#include <fmt/format.h>
#include <fmt/ranges.h>
#include <algorithm>
#include <array>
#include <cctype>
#include <charconv>
#include <set>

#include "loader/grub/interpreter.hpp"

namespace herberge::grub {

const std::map<std::string_view, Interpreter::Handler>& Interpreter::handlers() {
    using I = Interpreter;
    static const std::map<std::string_view, Handler> table = {
        {"set", &I::cmd_set},
        {"unset", &I::cmd_unset},
        {"export", &I::cmd_export},
        {"true", &I::cmd_true},
        {"false", &I::cmd_false},
        {"[", &I::cmd_test},
        {"test", &I::cmd_test},
        {"regexp", &I::cmd_regexp},
        {"echo", &I::cmd_echo},
        {"return", &I::cmd_return},
        {"break", &I::cmd_break},
        {"continue", &I::cmd_break},
        {"shift", &I::cmd_shift},
        {"setparams", &I::cmd_setparams},
        {"eval", &I::cmd_eval},
        {"source", &I::cmd_source},
        {".", &I::cmd_source},
        {"configfile", &I::cmd_configfile},
        {"normal", &I::cmd_configfile},
        {"load_env", &I::cmd_load_env},
        {"save_env", &I::cmd_save_env},
        {"search", &I::cmd_search},
        {"search.fs_uuid", &I::cmd_search},
        {"search.fs_label", &I::cmd_search},
        {"search.file", &I::cmd_search},
        {"probe", &I::cmd_probe},
        {"insmod", &I::cmd_insmod},
        {"cryptomount", &I::cmd_cryptomount},
        {"menuentry", &I::cmd_menuentry},
        {"submenu", &I::cmd_menuentry},
        {"blscfg", &I::cmd_blscfg},
        {"linux", &I::cmd_linux},
        {"linux16", &I::cmd_linux},
        {"linuxefi", &I::cmd_linux},
        {"initrd", &I::cmd_initrd},
        {"initrd16", &I::cmd_initrd},
        {"initrdefi", &I::cmd_initrd},
        {"devicetree", &I::cmd_devicetree},
        {"chainloader", &I::cmd_chainloader},
        {"multiboot", &I::cmd_multiboot},
        {"multiboot2", &I::cmd_multiboot},
        {"module", &I::cmd_nothing},
        {"module2", &I::cmd_nothing},
        {"boot", &I::cmd_boot},
        {"exit", &I::cmd_leave},
        {"normal_exit", &I::cmd_leave},
        {"halt", &I::cmd_leave},
        {"reboot", &I::cmd_leave},
        {"rmmod", &I::cmd_rmmod},
        {"tr", &I::cmd_tr},
        {"loadfont", &I::cmd_loadfont},
        {"cat", &I::cmd_reads_a_file},
        {"cmp", &I::cmd_reads_a_file},
        {"md5sum", &I::cmd_reads_a_file},
        {"sha1sum", &I::cmd_reads_a_file},
        {"sha256sum", &I::cmd_reads_a_file},
        {"sha512sum", &I::cmd_reads_a_file},
        {"loopback", &I::cmd_reads_a_file},
        {"blocklist", &I::cmd_reads_a_file},
        {"hexdump", &I::cmd_reads_a_file},
        {"crc", &I::cmd_reads_a_file},
        {"list_env", &I::cmd_reads_a_file},
        {"clear", &I::cmd_nothing},
    };
    return table;
}

int Interpreter::cmd_true(const Arguments& /*a*/, const Command& /*c*/) { return 0; }
int Interpreter::cmd_false(const Arguments& /*a*/, const Command& /*c*/) { return 1; }
int Interpreter::cmd_nothing(const Arguments& /*a*/, const Command& /*c*/) { return 0; }

int Interpreter::cmd_set(const Arguments& a, const Command& /*c*/) {
    if (a.size() < 2) return 0;
    const auto equals = a[1].find('=');
    if (equals == std::string::npos) return bad_argument("not an assignment.");
    set(a[1].substr(0, equals), a[1].substr(equals + 1));
    return 0;
}

int Interpreter::cmd_unset(const Arguments& a, const Command& /*c*/) {
    if (a.size() < 2) return bad_argument("one argument expected.");
    for (std::size_t i = 1; i < a.size(); ++i)
        if (const auto found = context_.variables.find(a[i]); found != context_.variables.end()) {
            context_.variable_bytes -= std::min(context_.variable_bytes, found->first.size() + found->second.size());
            context_.variables.erase(found);
        }
    return 0;
}

int Interpreter::cmd_export(const Arguments& a, const Command& /*c*/) {
    constexpr std::size_t most_exported = 2000;
    if (a.size() < 2) return bad_argument("one argument expected.");
    for (std::size_t i = 1; i < a.size() && context_.exported.size() < most_exported; ++i)
        context_.exported.insert(a[i].substr(0, a[i].find('=')));
    return 0;
}

int Interpreter::cmd_echo(const Arguments& a, const Command& /*c*/) {
    std::vector<std::string> words(a.begin() + 1, a.end());
    if (!words.empty() && (words[0] == "-n" || words[0] == "-e")) words.erase(words.begin());
    if (context_.echoes.size() < 400)
        context_.echoes.push_back({fmt::format("{}", fmt::join(words, " ")), file_, line_});
    return 0;
}

namespace {
/// A number in decimal digits alone.
std::optional<unsigned long> whole_number(const std::string& text) {
    unsigned long value = 0;
    const auto [end, problem] = std::from_chars(text.data(), text.data() + text.size(), value);
    return problem == std::errc{} && end == text.data() + text.size() ? std::optional(value) : std::nullopt;
}
constexpr int bad_number = 10;
}  // namespace

int Interpreter::cmd_return(const Arguments& a, const Command& /*c*/) {
    if (parameters_.empty() || a.size() > 2) return bad_argument("not in function body.");
    const auto given = a.size() > 1 ? whole_number(a[1]) : std::optional<unsigned long>(0);
    if (!given) return error("unrecognized number.", LoaderMessage::Kind::Other, bad_number);
    flow_ = Flow::Return;
    return a.size() > 1 ? static_cast<int>(*given) : status_;
}
/// Leaves as many loops as it is told, or goes on with the last of them; none where nothing loops.
int Interpreter::cmd_break(const Arguments& a, const Command& /*c*/) {
    if (a.size() > 2) return bad_argument("one argument expected.");
    const auto given = a.size() > 1 ? whole_number(a[1]) : std::optional<unsigned long>(1);
    if (!given) return error("unrecognized number.", LoaderMessage::Kind::Other, bad_number);
    breaks_ = static_cast<int>(std::min<unsigned long>(*given, static_cast<unsigned long>(loops_)));
    continues_ = a[0] == "continue";
    if (breaks_ > 0) flow_ = Flow::Break;
    return 0;
}
int Interpreter::cmd_leave(const Arguments& a, const Command& /*c*/) {
    flow_ = Flow::Left;
    left_by_ = a[0];
    return 0;
}

int Interpreter::cmd_shift(const Arguments& a, const Command& /*c*/) {
    if (parameters_.empty()) return 0;
    auto& args = parameters_.back();
    const auto count = a.size() > 1 ? whole_number(a[1]) : std::optional<unsigned long>(1);
    if (a.size() > 2 || !count || *count > args.size()) return number_of::bad_argument;
    args.erase(args.begin(), args.begin() + static_cast<std::ptrdiff_t>(*count));
    return 0;
}

int Interpreter::cmd_setparams(const Arguments& a, const Command& /*c*/) {
    if (parameters_.empty()) return number_of::invalid_command;
    parameters_.back().assign(a.begin() + 1, a.end());
    return 0;
}

int Interpreter::cmd_eval(const Arguments& a, const Command& /*c*/) {
    const std::string text = fmt::format("{}", fmt::join(a.begin() + 1, a.end(), " "));
    return run_text(text, file_);
}

// --- other files --------------------------------------------------------------------------------------------------

int Interpreter::cmd_source(const Arguments& a, const Command& /*c*/) {
    if (a.size() != 2) return bad_argument("filename expected.");
    Opened why;
    if (run_file(a[1], &why)) return status_;
    if (why.failure == Opened::Failure::Unread) return goes_on_unread(why.message);
    // It is told, and counts as done (grub-core/normal/main.c, grub_cmd_source; really started).
    error(why.message);
    return 0;
}

/// `configfile` and `normal FILE` run in a context of their own: exported variables only, and a menu of their own.
int Interpreter::cmd_configfile(const Arguments& a, const Command& /*c*/) {
    const std::string path = a.size() > 1 ? a[1] : variable("prefix") + "/grub.cfg";
    if (a[0] == "configfile" && a.size() < 2) return error("filename expected.");
    auto opened = open(path);
    if (opened.failure == Opened::Failure::Unread) return goes_on_unread(opened.message);
    if (!opened.source) return a[0] == "configfile" ? error(opened.message) : 0;
    std::erase_if(context_.variables, [&](const auto& item) { return !context_.exported.contains(item.first); });
    context_.menu.clear();
    run_file(path);
    // What it leaves is a menu of its own; the caller's script does not go on before that menu is left.
    if (flow_ == Flow::Go) flow_ = Flow::Left;
    return 0;
}

int Interpreter::cmd_load_env(const Arguments& a, const Command& /*c*/) {
    std::string path = variable("prefix") + "/grubenv";
    std::vector<std::string> only;
    for (std::size_t i = 1; i < a.size(); ++i) {
        if ((a[i] == "-f" || a[i] == "--file") && i + 1 < a.size()) path = a[++i];
        else if (a[i].starts_with("--file=")) path = a[i].substr(7);
        else if (!a[i].starts_with("-")) only.push_back(a[i]);
    }
    const auto opened = open(path);
    if (!opened.source) return error(opened.message);
    const auto text = opened.source->text(1U << 20U);
    if (!text && text.error().unreadable())
        return error(fmt::format("failure reading sector 0x{:x}.", text.error().byte / 512));
    if (!text) return error("premature end of file " + path + ".");
    static constexpr std::string_view mark = "# GRUB Environment Block\n";
    if (!text->starts_with(mark)) return error("invalid environment block.");
    // NAME=VALUE lines; a backslash takes the next character as it is (grub-core/lib/envblk.c).
    std::string line;
    auto finish = [&] {
        const auto equals = line.find('=');
        if (!line.starts_with('#') && equals != std::string::npos) {
            const std::string name = line.substr(0, equals);
            if (only.empty() || std::ranges::find(only, name) != only.end()) set(name, line.substr(equals + 1));
        }
        line.clear();
    };
    for (std::size_t i = mark.size(); i < text->size(); ++i) {
        const char c = (*text)[i];
        if (c == '\n') finish();
        else if (c == '\\' && i + 1 < text->size()) line += (*text)[++i];
        else line += c;
    }
    return 0;
}

int Interpreter::cmd_save_env(const Arguments& a, const Command& /*c*/) {
    std::string path = variable("prefix") + "/grubenv";
    std::size_t names = 0;
    for (std::size_t i = 1; i < a.size(); ++i)
        if ((a[i] == "-f" || a[i] == "--file") && i + 1 < a.size()) path = a[++i];
        else ++names;
    if (names == 0) return bad_argument("no variable is specified.");
    const auto opened = open(path);
    if (!opened.source) return error(opened.message);
    const auto start = opened.source->bytes(0, std::min<std::uint64_t>(25, opened.source->size()));
    if (!start || std::string(start->begin(), start->end()) != "# GRUB Environment Block\n")
        return error("invalid environment block.");
    return 0;
}

int Interpreter::cmd_insmod(const Arguments& a, const Command& /*c*/) {
    if (a.size() < 2) return bad_argument("one argument expected.");
    // What goes wrong is told, and counts as done (grub-core/kern/corecmd.c; really started).
    if (a[1].starts_with('/') || a[1].starts_with('(')) {
        const auto opened = open(a[1]);
        if (!opened.source) error(opened.message);
        return 0;
    }
    if (const auto problem = world_.load_module(a[1], variable("prefix"), context_.modules))
        error(problem->what, module_kind(*problem));
    return 0;
}

int Interpreter::cmd_rmmod(const Arguments& a, const Command& /*c*/) {
    if (a.size() < 2) return bad_argument("one argument expected.");
    return context_.modules.loaded.contains(a[1]) ? 0 : bad_argument("no such module.");
}

/// Commands that print or remember what a file holds: whether it is there.
int Interpreter::cmd_reads_a_file(const Arguments& a, const Command& /*c*/) {
    const bool loopback = a[0] == "loopback";
    if (loopback && a.size() > 1 && a[1] == "-d") return 0;
    const std::size_t wanted = a[0].ends_with("sum") ? 0 : a[0] == "cmp" || loopback ? 2 : 1;
    std::vector<std::string> files;
    for (std::size_t i = 1; i < a.size(); ++i)
        if (a[i] == "-f" && i + 1 < a.size()) files.push_back(a[++i]);
        else if (a[i].starts_with("--file=")) files.push_back(a[i].substr(7));
        else if (!a[i].starts_with('-')) files.push_back(a[i]);
    if (a[0] == "list_env" && files.empty()) files.push_back(variable("prefix") + "/grubenv");
    if (files.size() < wanted) return bad_argument("filename expected.");
    if (loopback) files.erase(files.begin());
    for (const auto& file : files)
        if (const auto opened = open(file); !opened.source && opened.failure != Opened::Failure::Unread)
            return error(opened.message);
    return 0;
}

/// A font, by its path or by its name among GRUB's own (grub-core/font/font.c, grub_font_load).
int Interpreter::cmd_loadfont(const Arguments& a, const Command& /*c*/) {
    if (a.size() < 2) return bad_argument("font file path expected.");
    for (std::size_t i = 1; i < a.size(); ++i) {
        const bool path = a[i].starts_with('/') || a[i].starts_with('(') || a[i].starts_with('+');
        const auto opened = open(path ? a[i] : fmt::format("{}/fonts/{}.pf2", variable("prefix"), a[i]));
        if (!opened.source && opened.failure != Opened::Failure::Unread) return error(opened.message);
    }
    return 0;
}

// --- devices --------------------------------------------------------------------------------------------------------

bool Interpreter::matches(const Device& device, std::string_view kind, std::string_view key) const {
    if (device.volume == nullptr) return false;
    const bool unread = world_.unread(*device.volume, context_.modules);
    if (!unread && !world_.readable(*device.volume, context_.modules)) return false;
    if (kind == "label") return device.volume->as(Observer::Grub).label == key;
    if (kind == "file" && unread) return false;
    if (kind == "file") {
        const auto found = resolve(*device.volume->files(Observer::Grub), key, {.most_links = 8, .follow_last = true});
        return key.starts_with('/') && found && found->file.type == FileType::Regular;
    }
    return std::ranges::equal(device.volume->as(Observer::Grub).uuid, key, [](char x, char y) {
        return std::tolower(static_cast<unsigned char>(x)) == std::tolower(static_cast<unsigned char>(y));
    });
}

/// grub-core/commands/search.c: hints first, then every device; with a variable the first hit ends the search.
int Interpreter::search_for(std::string_view kind, std::string_view key, std::string_view variable_name,
                            const std::vector<std::string>& hints) {
    auto take = [&](const std::string& name) {
        if (!variable_name.empty()) set(variable_name, name);
        return 0;
    };
    for (const auto& hint : hints)
        if (const auto device = world_.device(hint, context_.modules); device && matches(*device, kind, key))
            return take(hint);
    for (const auto& [name, device] : world_.search_order(context_.modules))
        if (matches(device, kind, key)) return take(name);
    if (const auto places = world_.unread_places(context_.modules, kind == "file"); !places.empty())
        return take(world_.unread_device(fmt::format("{} may lie in {}, which is not looked into here", key, places)));
    return error(fmt::format("no such device: {}.", key));
}

namespace {
/// The words of `search`, sorted out.
struct SearchWords {
    std::set<char> given;  ///< letters of options
    std::string variable;
    std::vector<std::string> hints, words;
};
/// An option's value stands behind "=", or is the next word if that is no option (grub-core/lib/arg.c). `own_hint`: the
/// option of the platform.
SearchWords search_words(const std::vector<std::string>& a, std::string_view own_hint) {
    struct Option {
        std::string_view name;
        char letter;
        bool takes;  ///< a value
    };
    static constexpr Option options[] = {
        {"file", 'f', false},        {"label", 'l', false}, {"fs-uuid", 'u', false},    {"set", 's', true},
        {"no-floppy", 'n', false},   {"hint", 'h', true},   {"hint-ieee1275", 0, true}, {"hint-bios", 0, true},
        {"hint-baremetal", 0, true}, {"hint-efi", 0, true}, {"hint-arc", 0, true},
    };
    SearchWords out;
    for (std::size_t i = 1; i < a.size(); ++i) {
        if (a[i] == "--") {
            out.words.insert(out.words.end(), a.begin() + static_cast<std::ptrdiff_t>(i) + 1, a.end());
            break;
        }
        if (a[i].size() < 2 || a[i][0] != '-') {
            out.words.push_back(a[i]);
            continue;
        }
        const bool name = a[i].starts_with("--");
        const auto equals = name ? a[i].find('=') : std::string::npos;
        for (std::size_t at = name ? 2 : 1; at < a[i].size(); at = name ? a[i].size() : at + 1) {
            const auto* option = std::ranges::find_if(options, [&](const Option& o) {
                return name ? o.name == std::string_view(a[i]).substr(2, equals - 2) : o.letter == a[i][at];
            });
            // What is no option counts as a word, but for hints to platforms that are yet to come.
            if (option == std::end(options)) {
                if (!a[i].starts_with("--hint-")) out.words.push_back(a[i]);
                break;
            }
            std::optional<std::string> value;
            if (option->takes && equals != std::string::npos) value = a[i].substr(equals + 1);
            else if (option->takes && i + 1 < a.size() && (a[i + 1].size() < 2 || a[i + 1][0] != '-')) value = a[++i];
            out.given.insert(option->letter);
            if (option->letter == 's') out.variable = value.value_or("root");
            // Those of other platforms do not count.
            const bool own = option->name == "hint" || option->name == "hint-baremetal" || option->name == own_hint;
            if (option->takes && option->letter != 's' && own && value) out.hints.push_back(*value);
            if (option->takes) break;
        }
    }
    return out;
}
}  // namespace

/// search [--file | --label | --fs-uuid] [--set[=NAME]] [--hint…=DEVICE]… [--no-floppy] KEY [HINT]
/// (grub-core/commands/search_wrap.c, grub-core/lib/arg.c).
int Interpreter::cmd_search(const Arguments& a, const Command& /*c*/) {
    if (a[0] != "search") {
        // The small forms that embedded configurations use: search.fs_uuid KEY VARIABLE HINT…
        const char* kind = a[0] == "search.fs_label" ? "label" : a[0] == "search.file" ? "file" : "uuid";
        std::vector<std::string> rest(a.begin() + 1, a.end());
        std::erase(rest, "--no-floppy");
        if (rest.empty()) return bad_argument("one argument expected.");
        return search_for(
            kind, rest[0], rest.size() > 1 ? rest[1] : "",
            {rest.begin() + std::min<std::ptrdiff_t>(2, static_cast<std::ptrdiff_t>(rest.size())), rest.end()});
    }
    auto asked = search_words(a, world_.platform() == "i386-pc" ? "hint-bios" : "hint-efi");
    const char* kind = asked.given.contains('l')   ? "label"
                       : asked.given.contains('u') ? "uuid"
                       : asked.given.contains('f') ? "file"
                                                   : nullptr;
    if (asked.words.empty() && !asked.given.contains('s')) return bad_argument("one argument expected.");
    // The older form: the name of the variable stands for what is searched.
    if (asked.words.empty()) asked.words.push_back(std::exchange(asked.variable, "root"));
    if (kind == nullptr)
        return error("unspecified search type.", LoaderMessage::Kind::Other, number_of::invalid_command);
    asked.hints.insert(asked.hints.end(), asked.words.begin() + 1, asked.words.end());
    return search_for(kind, asked.words[0], asked.variable, asked.hints);
}

int Interpreter::cmd_probe(const Arguments& a, const Command& /*c*/) {
    std::string variable_name;
    std::string what;
    std::string device_name;
    for (std::size_t i = 1; i < a.size(); ++i) {
        if (a[i].starts_with("--set=")) variable_name = a[i].substr(6);
        else if (a[i] == "--set" || a[i] == "-s") {
            if (i + 1 < a.size()) variable_name = a[++i];
        } else if (a[i].starts_with("-")) what = a[i];
        else device_name = a[i];
    }
    if (device_name.starts_with('(') && device_name.ends_with(')'))
        device_name = device_name.substr(1, device_name.size() - 2);
    const auto device = world_.device(device_name, context_.modules);
    if (!device) return error(world_.no_device(device_name, context_.modules));
    if (device->volume == nullptr) return error("unknown filesystem.");
    std::string value;
    const VolumeInfo& info = device->volume->as(Observer::Grub);
    if (what == "-u" || what == "--fs-uuid") value = info.uuid;
    else if (what == "-l" || what == "--label") value = info.label;
    else if (what == "-f" || what == "--fs") value = traits_of(info.format).grub_module;
    else if (what == "--part-uuid") value = device->volume->partuuid;
    else if (what == "-d" || what == "--driver") value = world_.platform() == "i386-pc" ? "biosdisk" : "efidisk";
    else if (what == "-p" || what == "--partmap")
        value = device_name.find(",msdos") != std::string::npos ? "msdos"
                : device_name.find(",gpt") != std::string::npos ? "gpt"
                                                                : "none";
    else return bad_argument(fmt::format("unknown argument `{}'.", what));
    if (!variable_name.empty()) set(variable_name, value);
    return 0;
}

// --- the menu --------------------------------------------------------------------------------------------------------

int Interpreter::cmd_menuentry(const Arguments& a, const Command& c) {
    Definition definition;
    auto& entry = definition.entry;
    definition.submenu = a[0] == "submenu";
    const bool superusers = !variable("superusers").empty();
    bool unrestricted = false;
    bool users = false;
    std::vector<std::string> rest;
    for (std::size_t i = 1; i < a.size(); ++i) {
        const auto& word = a[i];
        auto value = [&](std::string_view name) { return word.substr(name.size()); };
        if (word == "--class" && i + 1 < a.size()) entry.classes.push_back(a[++i]);
        else if (word.starts_with("--class=")) entry.classes.push_back(value("--class="));
        else if (word == "--id" && i + 1 < a.size()) entry.id = a[++i];
        else if (word.starts_with("--id=")) entry.id = value("--id=");
        else if (word == "--users" && i + 1 < a.size()) {
            users = true;
            ++i;
        } else if (word.starts_with("--users=")) users = true;
        else if (word == "--unrestricted") unrestricted = true;
        else if (word == "--hotkey" && i + 1 < a.size()) ++i;
        else if (word.starts_with("--hotkey=")) continue;
        else if ((word == "--source" || word == "--") && i + 1 < a.size() && word == "--source") ++i;
        else rest.push_back(word);
    }
    // Words behind the title become $1, $2 … of the body; the title is $1's predecessor
    // (grub-core/commands/menuentry.c).
    if (rest.empty()) return bad_argument("no title.");
    entry.title = rest[0];
    entry.place = file_;
    entry.line = c.line;
    entry.index = static_cast<int>(context_.menu.size());
    entry.restricted = (superusers || users) && !unrestricted && superusers;
    definition.arguments.assign(rest.begin(), rest.end());
    definition.body = c.block;
    if (!c.block) return bad_argument("no menuentry definition.");
    constexpr std::size_t most_definitions = 5000;
    if (context_.menu.size() >= most_definitions) {
        // GRUB would go on: what it comes to is not known.
        world_.budget().steps = 0;
        flow_ = Flow::Left;
        return 0;
    }
    context_.menu.push_back(std::move(definition));
    return 0;
}

}  // namespace herberge::grub
