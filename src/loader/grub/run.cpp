// SPDX-License-Identifier: MIT
// GRUB from its core to its menu: grub-core/kern/main.c, grub-core/normal/main.c, grub-core/normal/menu.c.
#include <fmt/format.h>
#include <algorithm>
#include <cctype>
#include <charconv>
#include <limits>

#include <herberge/loader.hpp>

#include "loader/grub/interpreter.hpp"

namespace herberge {

using grub::Context;
using grub::Definition;
using grub::Interpreter;
using grub::World;

namespace {

constexpr int most_entries = 500;
constexpr int most_menu_depth = 6;
constexpr const char* too_long = "its commands run on for longer than is followed";

const char* const features[] = {
    "feature_chainloader_bpb",  "feature_ntldr",        "feature_platform_search_hint", "feature_default_font_path",
    "feature_all_video_module", "feature_menuentry_id", "feature_menuentry_options",    "feature_200_final",
    "feature_nativedisk_cmd",   "feature_timeout_style"};

std::optional<int> whole_number(std::string_view text) {
    int value = 0;
    const auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), value);
    if (text.empty() || error != std::errc{} || end != text.data() + text.size() || value < 0) return std::nullopt;
    return value;
}

/// The number that a text begins with, behind blanks, as an entry's: with 0x hexadecimal, with 0 octal
/// (grub-core/normal/ menu.c, get_entry_number; kern/misc.c, grub_strtoull). What follows it does not matter.
std::optional<int> entry_number(std::string_view text) {
    while (!text.empty() && std::isspace(static_cast<unsigned char>(text.front())) != 0) text.remove_prefix(1);
    int base = 10;
    if (text.starts_with("0x")) {
        base = 16;
        text.remove_prefix(2);
    } else if (text.size() > 1 && text[0] == '0' && text[1] >= '0' && text[1] <= '7') {
        base = 8;
    }
    int value = 0;
    const auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), value, base);
    if (error == std::errc::result_out_of_range) return std::numeric_limits<int>::max();
    if (error != std::errc{} || value < 0) return std::nullopt;
    return value;
}

std::string value_of(const Context& context, std::string_view name) {
    const auto found = context.variables.find(name);
    return found != context.variables.end() ? found->second : std::string{};
}

/// The entry a setting names: a number, or the beginning of a path "A>B" whose first part is a number, title or id.
struct Chosen {
    int index = 0;
    bool matches = true;
    std::string rest;  ///< what is left for the submenu
};

Chosen choose(const std::vector<Definition>& menu, const std::string& setting) {
    Chosen out;
    if (setting.empty()) return out;
    auto names = [&](const MenuEntry& entry, std::string_view head) {
        return entry.title == head || (!entry.id.empty() && entry.id == head);
    };
    const auto arrow = setting.find('>');
    const std::string head = setting.substr(0, arrow);
    out.rest = arrow == std::string::npos ? std::string{} : setting.substr(arrow + 1);
    if (const auto number = entry_number(head)) {
        out.index = *number;
        out.matches = static_cast<std::size_t>(*number) < menu.size();
    } else {
        const auto found = std::ranges::find_if(
            menu, [&](const Definition& d) { return names(d.entry, setting) || names(d.entry, head); });
        out.matches = found != menu.end();
        out.index = out.matches ? static_cast<int>(found - menu.begin()) : 0;
    }
    if (!out.matches) {
        out.index = 0;
        out.rest.clear();
    }
    return out;
}

class Runner {
public:
    explicit Runner(World& world) : world_(world) {}

    /// Tries every entry of a menu on a copy of the state the menu leaves behind; of more than are tried, the `first`
    /// one all the same.
    std::vector<MenuEntry> try_entries(Context& context, int depth, const std::vector<int>& path, int first) {
        std::vector<MenuEntry> entries;
        // The state to copy is what the menu leaves behind, without the menu itself.
        const auto menu = std::exchange(context.menu, {});
        auto messages = std::exchange(context.messages, {});
        auto echoes = std::exchange(context.echoes, {});
        for (const auto& definition : menu) {
            MenuEntry entry = definition.entry;
            entry.path = path;
            entry.path.push_back(entry.index);
            const bool one_more = entry.index == first || tried_ < most_entries;
            if (one_more && !world_.budget().spent()) {
                ++tried_;
                Context copy = context;
                if (definition.submenu && depth < most_menu_depth) submenu(definition, std::move(copy), entry, depth);
                else try_one(definition, std::move(copy), entry, depth);
            } else not_followed(entry, fmt::format("it is none of the {} entries that are tried", most_entries));
            if (entry.children.empty() && world_.budget().spent()) not_followed(entry, too_long);
            entries.push_back(std::move(entry));
        }
        context.messages = std::move(messages);
        context.echoes = std::move(echoes);
        return entries;
    }

    /// What becomes of it is not known.
    static void not_followed(MenuEntry& entry, std::string why) {
        entry.stop.reset();
        entry.unread = std::move(why);
        entry.kernel_loaded = true;
    }

    static void take_loaded(const grub::Loaded& loaded, MenuEntry& entry) {
        entry.kind = loaded.kind;
        entry.arguments = loaded.arguments;
        entry.kernel = loaded.kernel;
        entry.ramdisks = loaded.ramdisks;
        entry.devicetree = loaded.devicetree;
        entry.kernel_loaded = loaded.ready;
        entry.started_by = loaded.started_by;
        entry.chain = loaded.chain;
        entry.stop = loaded.stop;
        entry.unread = loaded.unread;
    }

private:
    /// A submenu runs in a context of its own with the exported variables (grub_menu_execute_entry).
    void submenu(const Definition& definition, Context copy, MenuEntry& entry, int depth) {
        entry.kind = EntryKind::Submenu;
        std::erase_if(copy.variables, [&](const auto& item) { return !copy.exported.contains(item.first); });
        const std::string setting = choose_rest_;
        Interpreter inner(world_, std::move(copy));
        inner.run_entry(definition);
        const auto chosen = choose(inner.context().menu, setting);
        entry.default_child = chosen.index;
        entry.messages = inner.context().messages;
        const std::string before = std::exchange(choose_rest_, chosen.rest);
        entry.children = try_entries(inner.context(), depth + 1, entry.path, entry.default_child);
        choose_rest_ = before;
    }

    void try_one(const Definition& definition, Context copy, MenuEntry& entry, int depth) {
        // A loader that was filled at the top of the configuration stays loaded when the entry loads nothing.
        Interpreter inner(world_, std::move(copy));
        inner.run_entry(definition);
        auto& after = inner.context();
        entry.messages = after.messages;
        take_loaded(after.loaded, entry);
        if (!after.unread.empty()) {
            // It goes on with another configuration.
            entry.unread = after.unread;
            entry.kernel_loaded = true;
            return;
        }
        if (!after.menu.empty() && depth < most_menu_depth) {
            // The entry read another configuration: its menu is what comes next.
            entry.kind = EntryKind::Submenu;
            entry.default_child = choose(after.menu, value_of(after, "default")).index;
            entry.children = try_entries(after, depth + 1, entry.path, entry.default_child);
            return;
        }
        if (entry.kind == EntryKind::Nothing && !entry.stop && !entry.messages.empty())
            entry.stop = make_finding(Code::EntryLoadsNothing, "the entry loads nothing that could be started");
    }

public:
    void set_rest(std::string rest) { choose_rest_ = std::move(rest); }

private:
    World& world_;
    std::string choose_rest_;
    int tried_ = 0;
};

Context first_context(const std::string& prefix, const std::string& root, const std::string& platform = "i386-pc") {
    Context context;
    auto& v = context.variables;
    v["prefix"] = prefix;
    v["root"] = root;
    v["cmdpath"] = fmt::format("({})", root.substr(0, root.find(',')));
    v["pager"].clear();
    const auto dash = platform.find('-');
    v.emplace("grub_cpu", platform.substr(0, dash));
    v.emplace("grub_platform", platform.substr(dash + 1));
    for (const char* feature : features) {
        v[feature] = std::string("y");
        context.exported.insert(feature);
    }
    context.exported.insert({"prefix", "root", "cmdpath", "grub_cpu", "grub_platform", "pager"});
    return context;
}

void fill_menu(World& world, Interpreter& interpreter, GrubRun& out) {
    Context& context = interpreter.context();
    Menu& menu = out.menu;
    menu.loader = "GRUB 2";
    menu.credential = "a user name and password";
    menu.reads_by_itself = true;
    menu.after_error = "Press any key to continue...";
    menu.messages = context.messages;
    menu.default_setting = value_of(context, "default");
    const auto chosen = choose(context.menu, menu.default_setting);
    menu.default_entry = chosen.index;
    menu.default_matches = chosen.matches;
    menu.timeout = whole_number(value_of(context, "timeout"));
    const std::string style = value_of(context, "timeout_style");
    menu.style = style == "hidden" ? MenuStyle::Hidden : style == "countdown" ? MenuStyle::Countdown : MenuStyle::Menu;
    // Without a timeout GRUB shows its menu whatever the style says (grub-core/normal/menu.c, run_menu).
    if (!menu.timeout) menu.style = MenuStyle::Menu;
    if (menu.style != MenuStyle::Menu || menu.timeout == 0) menu.reveal = "Esc or F4, or Shift held down";
    std::string fallback = value_of(context, "fallback");
    for (std::size_t at = 0; at < fallback.size();) {
        const auto end = std::min(fallback.find_first_of(" ,;", at), fallback.size());
        const std::string word = fallback.substr(at, end - at);
        const auto named = choose(context.menu, word);
        if (!word.empty() && named.matches) menu.fallback.push_back(named.index);
        at = end + 1;
    }
    Runner runner(world);
    runner.set_rest(chosen.rest);
    menu.entries = runner.try_entries(context, 0, {}, chosen.index);
    if (interpreter.flow() == grub::Flow::Booted) {
        menu.boots_without_menu = true;
        MenuEntry direct;
        direct.title = "started by the configuration itself";
        direct.place = menu.place;
        direct.line = context.loaded.kernel.empty() ? 0 : context.loaded.kernel.front().line;
        Runner::take_loaded(context.loaded, direct);
        menu.direct.push_back(std::move(direct));
    }
}

void stop_at(GrubRun& out, Code code, std::string reason, std::vector<Evidence> evidence, std::string prompt) {
    out.stop = broken(make_finding(code, std::move(reason), std::move(evidence)));
    out.prompt = std::move(prompt);
}

void rescue(GrubRun& out, const std::string& message) {
    if (!message.empty()) out.screen.push_back("error: " + message);
    out.screen.emplace_back("Entering rescue mode...");
    out.screen.emplace_back("grub rescue>");
}

/// Reads the configuration and fills the menu; tells when nothing is left to start.
void read_menu(World& world, Interpreter& interpreter, const std::string& config, GrubRun& out) {
    interpreter.context().variables["color_normal"] = "light-gray/black";
    interpreter.context().variables["color_highlight"] = "black/light-gray";
    interpreter.context().variables["config_file"] = config;
    interpreter.context().variables["config_directory"] = config.substr(0, config.rfind('/'));
    interpreter.context().exported.insert({"config_file", "config_directory"});
    grub::Opened why;
    const bool read = interpreter.run_file(config, &why);
    const auto root = interpreter.context().variables["root"];
    const auto opened = world.open(config, root, interpreter.context().modules);
    out.menu.place = !opened.place.empty() ? opened.place : config;
    for (const auto& message : interpreter.context().messages) out.screen.push_back(message.text);
    if (world.budget().spent()) {
        out.stop =
            untold(Stage::Configuration, "the configuration runs on for longer than is followed, perhaps without end",
                   {evidence_line(out.menu.place, interpreter.line())});
        return;
    }
    const std::string unread =
        why.failure == grub::Opened::Failure::Unread ? why.message : interpreter.context().unread;
    if (!unread.empty() && interpreter.context().menu.empty()) {
        out.stop = untold(Stage::Configuration,
                          fmt::format("GRUB goes on with a configuration that is not read here: {}", unread),
                          {evidence_place(out.menu.place, {}, unread)});
        return;
    }
    if (!read && why.failure == grub::Opened::Failure::Read) {
        stop_at(out, Code::GrubConfigUnreadable, fmt::format("GRUB cannot read its configuration: {}", why.message),
                {evidence_place(out.menu.place, "a readable file", why.message)}, "grub>");
        out.screen.push_back("error: " + why.message);
        out.screen.emplace_back("grub>");
        return;
    }
    if (!read) {
        stop_at(out, Code::GrubConfigMissing, fmt::format("GRUB finds no configuration: {}", why.message),
                {evidence_place(out.menu.place, "a configuration file", why.message)}, "grub>");
        out.screen.emplace_back("grub>");
        return;
    }
    if (const auto& by = interpreter.left_by(); !by.empty() && by != "normal_exit") {
        stop_at(out, Code::GrubConfigEmpty,
                by == "exit" ? "the configuration leaves GRUB, and the firmware goes on with what is next"
                             : fmt::format("the configuration ends the start: {}", by),
                {evidence_line(out.menu.place, interpreter.line(), "a menu", by)}, {});
        return;
    }
    fill_menu(world, interpreter, out);
    if (!out.menu.entries.empty() || out.menu.boots_without_menu) return;
    const auto& messages = interpreter.context().messages;
    const auto first =
        std::ranges::find_if(messages, [](const LoaderMessage& m) { return m.kind == LoaderMessage::Kind::Syntax; });
    if (first != messages.end())
        stop_at(
            out, Code::GrubConfigSyntax,
            fmt::format("the configuration does not parse (noticed in line {}) and leaves no menu entry", first->line),
            {evidence_line(first->place, first->line, {}, first->text)}, "grub>");
    else
        stop_at(out, Code::GrubConfigEmpty, "the configuration defines no menu entry and starts nothing",
                {evidence_place(out.menu.place, "a menu entry", "none")}, "grub>");
    out.screen.emplace_back("grub>");
}

}  // namespace

GrubRun run_grub(const Machine& machine, const GrubCore& core, int first_drive, const KernelVerifier& verifier) {
    GrubRun out;
    if (first_drive == 0) first_drive = core.disk;
    World world(machine, first_drive, core.platform);
    world.set_kernel(core.kernel);
    grub::Modules modules;
    modules.loaded.insert(core.modules.begin(), core.modules.end());
    modules.symbols.insert(core.symbols.begin(), core.symbols.end());
    modules.words.insert(core.words.begin(), core.words.end());
    modules.features = core.features;
    world.set_memory_disk(core.memory_disk);
    world.set_verifier(verifier);
    // What an embedded module defines stands in the unpacked image too, so that its names count as exported.
    // The core's prefix: "(,msdos1)/boot/grub" means the boot disk, "/boot/grub" the device it was loaded from.
    std::string prefix = core.prefix;
    const Disk* own_disk = machine.disk(core.disk);
    const std::string boot_drive = own_disk != nullptr && own_disk->optical
                                       ? core.platform == "i386-pc" ? "cd" : "cd0"
                                       : fmt::format("hd{}", machine.drive_index(core.disk, first_drive));
    std::string root = boot_drive;
    // What the firmware showed as a volume may be none to GRUB, which reads the table by its own rules.
    if (const auto own = core.started_from != nullptr ? machine.at(core.started_from->place) : nullptr)
        root = world.name_of(*own);
    const std::string root_of_core = root;
    if (prefix.starts_with('(')) {
        const auto close = prefix.find(')');
        std::string device = prefix.substr(1, close == std::string::npos ? close : close - 1);
        if (device.empty() || device.starts_with(',')) device = fmt::format("{}{}", boot_drive, device);
        root = device;
        prefix = fmt::format("({}){}", device, close == std::string::npos ? "" : prefix.substr(close + 1));
    } else if (!prefix.empty()) {
        prefix = fmt::format("({}){}", root, prefix);
    }
    Context context = first_context(prefix, root, core.platform);
    context.modules = modules;
    if (!core.command_path.empty())
        context.variables["cmdpath"] = fmt::format("({}){}", root_of_core, core.command_path);
    Interpreter interpreter(world, std::move(context));
    if (!core.embedded_config.empty()) interpreter.run_embedded(core.embedded_config);
    prefix = interpreter.context().variables["prefix"];
    root = interpreter.context().variables["root"];
    for (const auto& message : interpreter.context().messages) out.screen.push_back(message.text);
    interpreter.context().messages.clear();

    const auto close = prefix.find(')');
    const std::string device_name =
        prefix.starts_with('(') && close != std::string::npos ? prefix.substr(1, close - 1) : root;
    const auto device = world.device(device_name, interpreter.context().modules);
    if (!device) {
        const Disk* disk = machine.disk(core.disk);
        const bool table_lost = disk != nullptr && device_name.find(',') != std::string::npos;
        rescue(out, "no such partition.");
        stop_at(out, table_lost ? Code::GrubPrefixDevice : Code::GrubPrefixDisk,
                fmt::format("GRUB looks for its files on ({}), which this machine does not have", device_name),
                {evidence_place(fmt::format("d{}", core.disk), fmt::format("the partition ({})", device_name),
                                "not there")},
                "grub rescue>");
        return out;
    }
    VolumeRef volume = world.volume_of(*device);
    std::string unread = device->unread;
    const auto problem_there = volume != nullptr ? volume->problem(Observer::Grub) : std::nullopt;
    const bool lost = problem_there && problem_there->unreadable();
    if (volume != nullptr && !lost && world.unread(*volume, interpreter.context().modules))
        unread = fmt::format("{} is {}, whose files GRUB reads and this program does not yet", volume->place,
                             volume->as(Observer::Grub).name());
    // An image that carries normal mode in itself goes on from there.
    if (!unread.empty() && !interpreter.context().modules.loaded.contains("normal")) {
        out.stop =
            untold(Stage::Loader, fmt::format("GRUB looks for its files in ({}): {}", device_name, unread),
                   {evidence_place(volume != nullptr ? volume->place : fmt::format("({})", device_name), {}, unread)});
        return out;
    }
    const std::string below = close != std::string::npos ? prefix.substr(close + 1) : prefix;
    if (volume != nullptr) out.prefix_place = fmt::format("{}:{}", volume->place, below);
    out.prefix_volume = volume;
    out.prefix_path = below;
    if (const auto problem = world.load_module("normal", prefix, interpreter.context().modules)) {
        const std::string& message = problem->what;
        if (problem->kind == ErrorKind::LinkLoop) {
            // Nothing counts them there: it loads one for the other until its stack is full.
            stop_at(out, Code::GrubNormalModule,
                    fmt::format("GRUB's modules in {} need each other in a circle", out.prefix_place),
                    {evidence_place(fmt::format("{}/{}/normal.mod", out.prefix_place, core.platform), "a sound module",
                                    message)},
                    "(nothing more is shown)");
            return out;
        }
        rescue(out, message);
        const bool no_file_system = problem->kind == ErrorKind::Unsupported;
        if (problem->unreadable()) {
            stop_at(out, Code::GrubFilesUnreadable,
                    fmt::format("GRUB cannot read its files in {}: {}", out.prefix_place, message),
                    {evidence_place(fmt::format("{}/{}/normal.mod", out.prefix_place, core.platform),
                                    "readable sectors", message)},
                    "grub rescue>");
            return out;
        }
        stop_at(out, no_file_system ? Code::GrubPrefixFileSystem : Code::GrubNormalModule,
                no_file_system
                    ? fmt::format("GRUB cannot read the file system in {} that holds its files{}",
                                  volume != nullptr ? volume->place : device_name,
                                  volume != nullptr ? world.refusal_clause(*volume, interpreter.context().modules) : "")
                    : fmt::format("GRUB cannot load its module normal: {}", message),
                {evidence_place(fmt::format("{}/{}/normal.mod", out.prefix_place, core.platform), "a sound module",
                                message)},
                "grub rescue>");
        return out;
    }
    out.loader_evidence.push_back(evidence_place(fmt::format("{}/{}/normal.mod", out.prefix_place, core.platform), {},
                                                 "a sound module, and all it depends on"));
    world.read_lists(prefix, interpreter.context().modules);
    read_menu(world, interpreter, prefix + "/grub.cfg", out);
    for (const auto& name : interpreter.context().modules.loaded)
        if (!modules.loaded.contains(name)) out.modules.push_back(name);
    return out;
}

GrubRun read_grub_config(const Machine& machine, const Volume& volume, const std::string& path) {
    GrubRun out;
    World world(machine, volume.disk, "i386-pc");
    world.assume_all_modules();
    const std::string root = world.name_of(volume);
    const std::string directory = path.substr(0, path.rfind('/'));
    Interpreter interpreter(world, first_context(fmt::format("({}){}", root, directory), root));
    out.prefix_place = fmt::format("{}:{}", volume.place, directory);
    read_menu(world, interpreter, fmt::format("({}){}", root, path), out);
    return out;
}

}  // namespace herberge
