// SPDX-License-Identifier: MIT
// GRUB's commands that steer a script: variables, tests, files read, devices searched.
#include <fmt/format.h>
#include <fmt/ranges.h>
#include <algorithm>
#include <array>
#include <cctype>
#include <charconv>

#include "bytes/pattern.hpp"
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
        {"continue", &I::cmd_continue},
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
        {"rmmod", &I::cmd_nothing},
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
    if (equals == std::string::npos) return error("not an assignment.");
    set(a[1].substr(0, equals), a[1].substr(equals + 1));
    return 0;
}

int Interpreter::cmd_unset(const Arguments& a, const Command& /*c*/) {
    for (std::size_t i = 1; i < a.size(); ++i)
        if (const auto found = context_.variables.find(a[i]); found != context_.variables.end()) {
            context_.variable_bytes -= std::min(context_.variable_bytes, found->first.size() + found->second.size());
            context_.variables.erase(found);
        }
    return 0;
}

int Interpreter::cmd_export(const Arguments& a, const Command& /*c*/) {
    constexpr std::size_t most_exported = 2000;
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

int Interpreter::cmd_return(const Arguments& a, const Command& /*c*/) {
    flow_ = Flow::Return;
    return a.size() > 1 ? std::atoi(a[1].c_str()) : status_;
}
int Interpreter::cmd_break(const Arguments& /*a*/, const Command& /*c*/) {
    flow_ = Flow::Break;
    return 0;
}
int Interpreter::cmd_continue(const Arguments& /*a*/, const Command& /*c*/) {
    flow_ = Flow::Continue;
    return 0;
}
int Interpreter::cmd_leave(const Arguments& a, const Command& /*c*/) {
    flow_ = Flow::Left;
    left_by_ = a[0];
    return 0;
}

int Interpreter::cmd_shift(const Arguments& a, const Command& /*c*/) {
    if (parameters_.empty()) return 1;
    auto& args = parameters_.back();
    const auto count = static_cast<std::size_t>(std::max(0, a.size() > 1 ? std::atoi(a[1].c_str()) : 1));
    args.erase(args.begin(), args.begin() + static_cast<std::ptrdiff_t>(std::min(count, args.size())));
    return 0;
}

int Interpreter::cmd_setparams(const Arguments& a, const Command& /*c*/) {
    if (parameters_.empty()) parameters_.emplace_back();
    parameters_.back().assign(a.begin() + 1, a.end());
    return 0;
}

int Interpreter::cmd_eval(const Arguments& a, const Command& /*c*/) {
    const std::string text = fmt::format("{}", fmt::join(a.begin() + 1, a.end(), " "));
    return run_text(text, file_);
}

// --- tests (grub-core/commands/test.c) ----------------------------------------------------------------------------

namespace {

/// Evaluates the words between the brackets. File tests are answered by the caller.
class Test {
public:
    using FileTest = std::function<bool(char, std::string_view)>;
    Test(const std::vector<std::string>& words, std::size_t from, std::size_t to, FileTest files, int depth = 0)
        : words_(words), at_(from), end_(to), files_(std::move(files)), depth_(depth) {}

    bool run() {
        bool result = false;
        bool accumulated = true;
        // -a binds tighter than -o; a missing operator ends the expression, as in GRUB.
        while (at_ < end_) {
            if (words_[at_] == ")") break;
            if (words_[at_] == "-o") {
                result = result || accumulated;
                accumulated = true;
                ++at_;
                continue;
            }
            if (words_[at_] == "-a") {
                ++at_;
                continue;
            }
            // Evaluated in any case: it is what moves on.
            const bool value = primary();
            accumulated = accumulated && value;
        }
        return result || accumulated;  // of nothing: it holds (really started)
    }

private:
    static std::optional<long long> number(std::string_view text) {
        long long value = 0;
        const auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), value);
        if (error != std::errc{} || text.empty() || end == text.data()) return std::nullopt;
        return value;
    }

    bool primary() {
        bool inverted = false;
        while (at_ < end_ && words_[at_] == "!") {
            inverted = !inverted;
            ++at_;
        }
        if (at_ >= end_) return inverted;
        return plain_primary() != inverted;
    }

    bool plain_primary() {
        if (words_[at_] == "(") {
            // GRUB's own stack would be long used up.
            constexpr int most_depth = 200;
            if (depth_ >= most_depth) {
                at_ = end_;
                return false;
            }
            ++at_;
            Test inner(words_, at_, end_, files_, depth_ + 1);
            const bool value = inner.run();
            at_ = std::min(end_, inner.at_ + 1);
            return value;
        }
        if (at_ + 2 < end_) {
            const auto& left = words_[at_];
            const auto& op = words_[at_ + 1];
            const auto& right = words_[at_ + 2];
            if (op == "=" || op == "==") return step(3, left == right);
            if (op == "!=") return step(3, left != right);
            if (op == "<") return step(3, left < right);
            if (op == "<=") return step(3, left <= right);
            if (op == ">") return step(3, left > right);
            if (op == ">=") return step(3, left >= right);
            static constexpr std::array<std::string_view, 8> numeric = {"-eq", "-ne", "-lt",  "-le",
                                                                        "-gt", "-ge", "-pgt", "-plt"};
            const auto which = std::ranges::find(numeric, op) - numeric.begin();
            if (which < 8) {
                const long long l = number(left).value_or(0);
                const long long r = number(right).value_or(0);
                const std::array<bool, 8> outcome = {l == r, l != r, l<r, l <= r, l> r, l >= r, l > r, l < r};
                return step(3, outcome.at(static_cast<std::size_t>(which)));
            }
            // Times of files are not compared here: one that is there is newer than one that is not.
            if (op == "-nt") return step(3, there(left) && !there(right));
            if (op == "-ot") return step(3, !there(left) && there(right));
        }
        if (at_ + 1 < end_) {
            const auto& op = words_[at_];
            const auto& what = words_[at_ + 1];
            if (op == "-n") return step(2, !what.empty());
            if (op == "-z") return step(2, what.empty());
            if (op == "-d" || op == "-e" || op == "-f" || op == "-s") return step(2, files_(op[1], what));
        }
        return step(1, !words_[at_].empty());
    }
    [[nodiscard]] bool there(std::string_view path) const { return files_('e', path); }
    bool step(std::size_t count, bool value) {
        at_ += count;
        return value;
    }

    const std::vector<std::string>& words_;
    std::size_t at_;
    std::size_t end_;
    FileTest files_;
    int depth_;
};

}  // namespace

int Interpreter::cmd_test(const Arguments& a, const Command& /*c*/) {
    // The bracket that ends it may be missing (test.c, grub_cmd_test).
    const std::size_t end = a.size() - (a.size() > 1 && a.back() == "]" ? 1 : 0);
    auto files = [this](char kind, std::string_view path) {
        const auto opened = open(path);
        const bool directory =
            opened.message == "not a regular file." && opened.resolved.file.type == FileType::Directory;
        switch (kind) {
            case 'd': return directory;
            case 'e': return directory || opened.source != nullptr;
            case 's': return opened.source != nullptr && opened.source->size() > 0;
            default: return opened.source != nullptr;
        }
    };
    return Test(a, 1, end, files).run() ? 0 : 1;
}

/// regexp [--set [NUMBER:]NAME]… PATTERN TEXT (grub-core/commands/regexp.c).
int Interpreter::cmd_regexp(const Arguments& a, const Command& /*c*/) {
    std::vector<std::pair<std::size_t, std::string>> wanted;
    std::vector<std::string> words;
    for (std::size_t i = 1; i < a.size(); ++i) {
        std::string_view name;
        if (a[i].starts_with("--set=")) name = std::string_view(a[i]).substr(6);
        else if ((a[i] == "--set" || a[i] == "-s") && i + 1 < a.size()) name = a[++i];
        else {
            words.push_back(a[i]);
            continue;
        }
        std::size_t group = 1;
        if (const auto colon = name.find(':'); colon != std::string_view::npos) {
            std::from_chars(name.data(), name.data() + colon, group);
            name.remove_prefix(colon + 1);
        }
        wanted.emplace_back(group, name);
    }
    if (words.size() != 2) return error("two arguments expected.");
    const auto pattern = Pattern::parse(words[0]);
    const auto match = pattern ? pattern->match(words[1]) : Pattern::Match{Pattern::Outcome::Untold, {}};
    if (match.outcome == Pattern::Outcome::Untold)
        return goes_on_unread(fmt::format("whether the pattern {} fits {} is not told here", words[0], words[1]));
    if (match.outcome == Pattern::Outcome::FitsNot) return error("false.");
    for (const auto& [group, name] : wanted)
        if (group < match.groups.size())
            set(name, words[1].substr(match.groups[group].first, match.groups[group].second));
    return 0;
}

// --- other files --------------------------------------------------------------------------------------------------

int Interpreter::cmd_source(const Arguments& a, const Command& /*c*/) {
    if (a.size() < 2) return error("filename expected.");
    Opened why;
    if (run_file(a[1], &why)) return status_;
    return why.failure == Opened::Failure::Unread ? goes_on_unread(why.message) : error(why.message);
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
    set("config_file", path);
    set("config_directory", path.substr(0, path.rfind('/')));
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
    for (std::size_t i = 1; i + 1 < a.size(); ++i)
        if (a[i] == "-f" || a[i] == "--file") path = a[i + 1];
    const auto opened = open(path);
    if (!opened.source) return error(opened.message);
    const auto start = opened.source->bytes(0, std::min<std::uint64_t>(25, opened.source->size()));
    if (!start || std::string(start->begin(), start->end()) != "# GRUB Environment Block\n")
        return error("invalid environment block.");
    return 0;
}

int Interpreter::cmd_insmod(const Arguments& a, const Command& /*c*/) {
    if (a.size() < 2) return error("one argument expected.");
    if (a[1].starts_with('/') || a[1].starts_with('(')) {
        const auto opened = open(a[1]);
        return opened.source ? 0 : error(opened.message);
    }
    const auto problem = world_.load_module(a[1], variable("prefix"), context_.modules);
    return problem ? error(problem->what, module_kind(*problem)) : 0;
}

// --- devices --------------------------------------------------------------------------------------------------------

bool Interpreter::matches(const Device& device, std::string_view kind, std::string_view key) const {
    if (device.volume == nullptr) return false;
    const bool unread = world_.unread(*device.volume, context_.modules);
    if (!unread && !world_.readable(*device.volume, context_.modules)) return false;
    if (kind == "label") return device.volume->as(Observer::Grub).label == key;
    if (kind == "file" && unread) return false;
    if (kind == "file")
        return resolve(*device.volume->files(Observer::Grub), key, {.most_links = 8, .follow_last = true}).has_value();
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

int Interpreter::cmd_search(const Arguments& a, const Command& /*c*/) {
    std::string kind = "uuid";
    std::string variable_name;
    std::string key;
    std::vector<std::string> hints;
    if (a[0] != "search") {
        // The small forms that embedded configurations use: search.fs_uuid KEY VARIABLE HINT…
        kind = a[0] == "search.fs_label" ? "label" : a[0] == "search.file" ? "file" : "uuid";
        if (a.size() < 2) return error("one argument expected.");
        std::vector<std::string> rest(a.begin() + 1, a.end());
        std::erase(rest, "--no-floppy");
        if (rest.empty()) return error("one argument expected.");
        return search_for(
            kind, rest[0], rest.size() > 1 ? rest[1] : "",
            {rest.begin() + std::min<std::ptrdiff_t>(2, static_cast<std::ptrdiff_t>(rest.size())), rest.end()});
    }
    kind.clear();
    for (std::size_t i = 1; i < a.size(); ++i) {
        const auto& word = a[i];
        if (word == "--fs-uuid" || word == "-u") kind = "uuid";
        else if (word == "--label" || word == "--fs-label" || word == "-l") kind = "label";
        else if (word == "--file" || word == "-f") kind = "file";
        else if (word == "--set" || word == "-s") {
            // The name is optional: `--set` alone means root. It takes the next word only in the form -s NAME.
            variable_name = "root";
            if (word == "-s" && i + 2 < a.size() && !a[i + 1].starts_with('-')) variable_name = a[++i];
        } else if (word.starts_with("--set=")) variable_name = word.substr(6);
        else if (word.starts_with("--hint-bios=")) hints.push_back(word.substr(12));
        else if (word.starts_with("--hint-baremetal=")) hints.push_back(word.substr(17));
        else if (word.starts_with("--hint=")) hints.push_back(word.substr(7));
        else if (word == "--hint" || word == "-h") {
            if (i + 1 < a.size()) hints.push_back(a[++i]);
        } else if (word.starts_with("-") && key.empty()) continue;
        else if (key.empty()) key = word;
        else if (variable_name.empty() || variable_name == "root") hints.push_back(word);
    }
    if (kind.empty()) kind = "file";
    if (key.empty()) return error("one argument expected.");
    return search_for(kind, key, variable_name, hints);
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
    if (rest.empty()) return error("no title.");
    entry.title = rest[0];
    entry.place = file_;
    entry.line = c.line;
    entry.index = static_cast<int>(context_.menu.size());
    entry.restricted = (superusers || users) && !unrestricted && superusers;
    definition.arguments.assign(rest.begin(), rest.end());
    definition.body = c.block;
    if (!c.block) return error("no menuentry definition.");
    constexpr std::size_t most_definitions = 5000;
    if (context_.menu.size() >= most_definitions) return error("out of memory.");
    context_.menu.push_back(std::move(definition));
    return 0;
}

}  // namespace herberge::grub
