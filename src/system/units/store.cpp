// SPDX-License-Identifier: MIT
#include "system/units/store.hpp"

#include <fmt/format.h>
#include <algorithm>

#include "system/units/generators.hpp"
#include "system/units/names.hpp"

namespace herberge {

using units::parts_of;

namespace {

constexpr std::size_t most_units = 5000;
constexpr std::size_t most_ties = 200'000;

struct TieRow {
    UnitTie tie, inverse;
    std::string_view name;
};
constexpr TieRow rows[] = {
    {UnitTie::Requires, UnitTie::RequiredBy, "Requires"},
    {UnitTie::Requisite, UnitTie::RequisiteOf, "Requisite"},
    {UnitTie::BindsTo, UnitTie::BoundBy, "BindsTo"},
    {UnitTie::Wants, UnitTie::WantedBy, "Wants"},
    {UnitTie::Upholds, UnitTie::UpheldBy, "Upholds"},
    {UnitTie::PartOf, UnitTie::ConsistsOf, "PartOf"},
    {UnitTie::Conflicts, UnitTie::ConflictedBy, "Conflicts"},
    {UnitTie::Before, UnitTie::After, "Before"},
    {UnitTie::After, UnitTie::Before, "After"},
    {UnitTie::OnFailure, UnitTie::OnFailure, "OnFailure"},
    {UnitTie::OnSuccess, UnitTie::OnSuccess, "OnSuccess"},
    {UnitTie::Triggers, UnitTie::TriggeredBy, "Triggers"},
    {UnitTie::RequiredBy, UnitTie::Requires, "RequiredBy"},
    {UnitTie::RequisiteOf, UnitTie::Requisite, "RequisiteOf"},
    {UnitTie::BoundBy, UnitTie::BindsTo, "BoundBy"},
    {UnitTie::WantedBy, UnitTie::Wants, "WantedBy"},
    {UnitTie::UpheldBy, UnitTie::Upholds, "UpheldBy"},
    {UnitTie::ConsistsOf, UnitTie::PartOf, "ConsistsOf"},
    {UnitTie::ConflictedBy, UnitTie::Conflicts, "ConflictedBy"},
    {UnitTie::TriggeredBy, UnitTie::Triggers, "TriggeredBy"},
};
const TieRow& row_of(UnitTie tie) { return *std::ranges::find(rows, tie, &TieRow::tie); }

/// Keys of the section Unit that tie it to others.
constexpr std::pair<std::string_view, UnitTie> keys[] = {
    {"Requires", UnitTie::Requires}, {"Requisite", UnitTie::Requisite}, {"BindsTo", UnitTie::BindsTo},
    {"BindTo", UnitTie::BindsTo},    {"Wants", UnitTie::Wants},         {"Upholds", UnitTie::Upholds},
    {"PartOf", UnitTie::PartOf},     {"Conflicts", UnitTie::Conflicts}, {"Before", UnitTie::Before},
    {"After", UnitTie::After},       {"OnFailure", UnitTie::OnFailure}, {"OnSuccess", UnitTie::OnSuccess},
};

bool needs_no_file(std::string_view type) { return type == ".device" || type == ".slice"; }

std::string first_line(const FileSystem& fs, std::string_view path) {
    const auto text = read_text_file(fs, path);
    if (!text) return {};
    return text->substr(0, text->find_first_of("\r\n"));
}

std::string os_value(std::string_view text, std::string_view key) {
    std::string out;
    while (!text.empty()) {
        const auto end = std::min(text.find('\n'), text.size());
        auto line = text.substr(0, end);
        text.remove_prefix(std::min(end + 1, text.size()));
        if (!line.starts_with(key) || line.size() <= key.size() || line[key.size()] != '=') continue;
        line.remove_prefix(key.size() + 1);
        if (line.size() > 1 && (line.front() == '"' || line.front() == '\'')) line = line.substr(1, line.size() - 2);
        out = line;
    }
    return out;
}

}  // namespace

std::string_view unit_tie_name(UnitTie tie) { return row_of(tie).name; }

std::string_view unit_load_id(UnitLoad load) {
    switch (load) {
        case UnitLoad::Loaded: return "loaded";
        case UnitLoad::NotFound: return "not-found";
        case UnitLoad::Masked: return "masked";
        case UnitLoad::BadSetting: return "bad-setting";
        case UnitLoad::Damaged: return "error";
        case UnitLoad::Unreadable: return "unreadable";
    }
    return "";
}

std::optional<std::string> Unit::value(std::string_view section, std::string_view key) const {
    std::optional<std::string> out;
    for (const auto& one : settings) {
        if (one.section != section || one.key != key) continue;
        if (one.value.empty()) out.reset();
        else out = one.value;
    }
    return out;
}

std::vector<const UnitSetting*> Unit::values(std::string_view section, std::string_view key) const {
    std::vector<const UnitSetting*> out;
    for (const auto& one : settings) {
        if (one.section != section || one.key != key) continue;
        if (one.value.empty()) out.clear();
        else out.push_back(&one);
    }
    return out;
}

bool Unit::is_on(std::string_view section, std::string_view key, bool otherwise) const {
    const auto text = value(section, key);
    if (!text) return otherwise;
    for (const std::string_view yes : {"1", "yes", "y", "true", "t", "on"})
        if (lower_text(*text) == yes) return true;
    for (const std::string_view no : {"0", "no", "n", "false", "f", "off"})
        if (lower_text(*text) == no) return false;
    return otherwise;
}

bool Unit::has_tie(UnitTie tie, std::string_view unit) const {
    return std::ranges::any_of(ties, [&](const UnitDependency& one) { return one.tie == tie && one.unit == unit; });
}

std::string_view Unit::type() const { return std::string_view(name).substr(std::min(name.rfind('.'), name.size())); }

UnitStore::UnitStore(const Volume& root, const CommandLine& arguments, const Machine* machine)
    : impl_(std::make_unique<Impl>(root, arguments, machine)) {}
UnitStore::~UnitStore() = default;
const Unit& UnitStore::load(std::string_view name) { return impl_->load(name); }
const Unit* UnitStore::find(std::string_view name) const { return impl_->find(name); }
const std::vector<Finding>& UnitStore::findings() const { return impl_->findings; }
const std::vector<std::string>& UnitStore::other_generators() const { return impl_->other_generators; }
std::vector<const Unit*> UnitStore::all() const {
    std::vector<const Unit*> out;
    for (const auto& [name, unit] : impl_->units) out.push_back(unit.get());
    return out;
}
std::string UnitStore::name_of_path(std::string_view path, std::string_view type) {
    return units::escape_path(path) + std::string(type);
}

UnitStore::Impl::Impl(const Volume& root, const CommandLine& arguments, const Machine* machine)
    : fs_(*root.files(Observer::Linux)), volume_(root.place), arguments_(arguments), files_(fs_, volume_) {
    values_.machine_id = first_line(fs_, "/etc/machine-id");
    values_.host_name = first_line(fs_, "/etc/hostname");
    if (values_.host_name.empty()) values_.host_name = "localhost";
    const auto release = read_text_file(fs_, "/etc/os-release").value_or("");
    values_.os_id = os_value(release, "ID");
    values_.os_version = os_value(release, "VERSION_ID");
    const units::GeneratorInput input{fs_, volume_, arguments_};
    units::GeneratedFiles made;
    units::from_fstab(input, made);
    units::from_crypttab(input, made);
    units::from_command_line(input, made);
    if (machine != nullptr) units::from_partition_types(input, *machine, root, made);
    files_.add(std::move(made));
    units::GeneratedFiles scripts;
    units::from_scripts(input, files_, scripts);
    files_.add(std::move(scripts));
    find_generators();
    // They are always there.
    for (const char* name : {"-.slice", "system.slice", "-.mount", "init.scope"}) intern(name);
}

void UnitStore::Impl::find_generators() {
    for (const char* folder : {"/etc/systemd/system-generators", "/usr/local/lib/systemd/system-generators",
                               "/lib/systemd/system-generators", "/usr/lib/systemd/system-generators"}) {
        const auto there = resolve(fs_, folder);
        const auto entries = there ? fs_.list(there->file.id) : fail(ErrorKind::NotFound, "no such folder");
        if (!entries) continue;
        for (const auto& one : *entries) {
            constexpr std::size_t most = 100;
            if (one.name == "." || one.name == ".." || one.name.starts_with("systemd-") ||
                other_generators.size() > most)
                continue;
            const auto file = resolve(fs_, fmt::format("{}/{}", folder, one.name));
            const bool runs = file && file->file.type == FileType::Regular && (file->file.permissions & 0111U) != 0;
            if (runs && std::ranges::find(other_generators, one.name) == other_generators.end())
                other_generators.push_back(one.name);
        }
    }
    std::ranges::sort(other_generators);
}

Unit& UnitStore::Impl::load(std::string_view name) {
    Unit& out = intern(std::string(name));
    drain();
    for (; told_of_files_ < files_.findings().size(); ++told_of_files_)
        findings.push_back(files_.findings()[told_of_files_]);
    return out;
}

const Unit* UnitStore::Impl::find(std::string_view name) const {
    const auto alias = aliases_.find(name);
    const auto found = units.find(alias != aliases_.end() ? std::string_view(alias->second) : name);
    return found != units.end() ? found->second.get() : nullptr;
}

Unit& UnitStore::Impl::intern(const std::string& name) {
    if (const auto known = units.find(name); known != units.end()) return *known->second;
    if (const auto alias = aliases_.find(name); alias != aliases_.end()) return *units.find(alias->second)->second;
    const auto file = files_.find(name);
    const std::string& own = file.names.front();
    auto& slot = units[own];
    if (slot == nullptr) {
        slot = std::make_unique<Unit>();
        slot->name = own;
        slot->fragment = file.path;
        slot->load = file.masked ? UnitLoad::Masked : file.unreadable ? UnitLoad::Unreadable : UnitLoad::Loaded;
        queue_.push_back(slot.get());
    }
    for (const auto& one : file.names) {
        if (one == own || units.contains(one)) continue;
        if (aliases_.emplace(one, own).second) slot->aliases.push_back(one);
    }
    return *slot;
}

void UnitStore::Impl::tie(Unit& from, UnitTie kind, const std::string& to, const Evidence& said) {
    const auto parts = parts_of(to);
    if (!parts || parts->is_template()) return;
    Unit& other = intern(to);
    if (&other == &from || from.has_tie(kind, other.name) || from.ties.size() > most_ties) return;
    // Devices wait for nobody (core/unit.c, unit_add_dependency).
    if ((kind == UnitTie::Before && other.type() == ".device") || (kind == UnitTie::After && from.type() == ".device"))
        return;
    from.ties.push_back({kind, other.name, said});
    const auto inverse = row_of(kind).inverse;
    if (inverse == kind || other.has_tie(inverse, from.name)) return;
    other.ties.push_back({inverse, from.name, said});
}

void UnitStore::Impl::tie_both(Unit& from, UnitTie first, UnitTie second, const std::string& to, const Evidence& said) {
    tie(from, first, to, said);
    tie(from, second, to, said);
}

void UnitStore::Impl::drain() {
    if (draining_) return;
    draining_ = true;
    bool more = !queue_.empty();
    while (more) {
        while (!queue_.empty() && units.size() < most_units) {
            Unit& unit = *queue_.front();
            queue_.pop_front();
            read(unit);
        }
        ties_between_all();
        more = !queue_.empty() && units.size() < most_units;
    }
    if (units.size() >= most_units) {
        for (Unit* unit : queue_) unit->load = UnitLoad::Unreadable;
        queue_.clear();
        findings.push_back(
            make_finding(Code::ServicesUnitsUnreadable,
                         fmt::format("there are more than {} units: the rest is not looked at", most_units),
                         {evidence_place(volume_ + ":/etc/systemd/system")}));
    }
    draining_ = false;
}

Evidence UnitStore::Impl::said_by_file(const std::string& path) const {
    if (const auto* made = files_.generated(path)) return made->said;
    return evidence_place(files_.place(path));
}

Evidence UnitStore::Impl::said_by(const UnitSetting& setting) const {
    if (const auto* made = files_.generated(setting.place)) return made->said;
    return evidence_line(files_.place(setting.place), setting.line, {},
                         fmt::format("{}={}", setting.key, setting.value));
}

void UnitStore::Impl::refuse(Unit& unit, UnitLoad load, std::string text, Evidence evidence) {
    if (unit.problem) return;
    unit.load = load;
    unit.problem = make_finding(load == UnitLoad::Masked ? Code::ServicesUnitMasked : Code::ServicesUnitRefused,
                                std::move(text), {std::move(evidence)});
}

std::optional<std::string> UnitStore::Impl::expanded(const Unit& unit, std::string_view text) const {
    auto values = values_;
    values.name = unit.name;
    values.fragment = unit.fragment;
    return units::expand_specifiers(text, values);
}

bool UnitStore::Impl::read_file(Unit& unit, const std::string& path, bool drop_in) {
    const auto text = files_.text(path);
    if (!text) {
        if (text.error().unreadable())
            refuse(unit, UnitLoad::Unreadable, fmt::format("{} cannot be read: {}", path, text.error().what),
                   evidence_error(text.error()));
        return false;
    }
    auto parsed = units::parse_unit(*text, path);
    unit.settings.insert(unit.settings.end(), std::make_move_iterator(parsed.settings.begin()),
                         std::make_move_iterator(parsed.settings.end()));
    unit.notes.insert(unit.notes.end(), parsed.notes.begin(), parsed.notes.end());
    // A file that changes a unit and is broken changes it up to there.
    if (parsed.bad_line && drop_in)
        unit.notes.push_back(fmt::format("{}, line {}: nothing behind it counts", path, *parsed.bad_line));
    else if (parsed.bad_line)
        refuse(unit, UnitLoad::Damaged,
               fmt::format("{} cannot be parsed: line {} begins a section and does not close its name", path,
                           *parsed.bad_line),
               evidence_line(files_.place(path), *parsed.bad_line, "[…]", printable(parsed.bad_text)));
    return true;
}

void UnitStore::Impl::read(Unit& unit) {
    std::vector<std::string> names = {unit.name};
    names.insert(names.end(), unit.aliases.begin(), unit.aliases.end());
    if (unit.load == UnitLoad::Masked) {
        refuse(unit, UnitLoad::Masked, fmt::format("{} is masked", unit.name),
               evidence_place(
                   files_.place(unit.fragment == "/dev/null" ? "/etc/systemd/system/" + unit.name : unit.fragment),
                   "a unit's file", "a link to /dev/null, or an empty file"));
        // What changes it is read all the same, and ties it to others.
        for (const auto& path : files_.drop_ins(names)) {
            unit.drop_ins.push_back(path);
            read_file(unit, path, true);
        }
        ties_of_settings(unit);
        return ties_of_folders(unit);
    }
    if (unit.load == UnitLoad::Unreadable)
        return refuse(unit, UnitLoad::Unreadable, fmt::format("where {} lies cannot be read", unit.name),
                      evidence_place(files_.place("/etc/systemd/system/" + unit.name)));
    bool there = false;
    if (!unit.fragment.empty()) there = read_file(unit, unit.fragment, false);
    if (unit.load == UnitLoad::Damaged || unit.load == UnitLoad::Unreadable) return;
    const bool always = needs_no_file(unit.type()) || unit.name == "-.mount" || unit.name == "init.scope";
    if (!there && !always) {
        unit.load = UnitLoad::NotFound;
        unit.fragment.clear();
        return;
    }
    for (const auto& path : files_.drop_ins(names)) {
        unit.drop_ins.push_back(path);
        read_file(unit, path, true);
    }
    if (unit.load != UnitLoad::Loaded) return;
    ties_of_settings(unit);
    ties_of_folders(unit);
    extras(unit);
    // What it refuses to run it ties to nothing, but for what stands in its file.
}

std::string UnitStore::Impl::with_instance(const Unit& unit, const std::string& name) const {
    auto parts = parts_of(name);
    if (!parts || !parts->is_template()) return name;
    const auto own = parts_of(unit.name);
    parts->instance = own->is_instance() ? *own->instance : own->prefix;
    return parts->name();
}

void UnitStore::Impl::ties_of_settings(Unit& unit) {
    for (std::size_t i = 0; i < unit.settings.size(); ++i) {
        const auto setting = unit.settings[i];
        if (setting.section != "Unit") continue;
        const auto* key = std::ranges::find(keys, setting.key, &std::pair<std::string_view, UnitTie>::first);
        const bool mounts = setting.key == "RequiresMountsFor";
        if (key == std::end(keys) && !mounts) continue;
        const auto words = units::quoted_words(setting.value);
        if (!words) {
            unit.notes.push_back(fmt::format("{}, line {}: a quote is not closed", setting.place, setting.line));
            continue;
        }
        for (const auto& word : *words) {
            const auto name = expanded(unit, word);
            if (!name) {
                unit.notes.push_back(
                    fmt::format("{}, line {}: {} is not known here", setting.place, setting.line, word));
                continue;
            }
            if (mounts) needs_mounts_for(unit, *name);
            else tie(unit, key->second, with_instance(unit, *name), said_by(setting));
        }
    }
}

void UnitStore::Impl::ties_of_folders(Unit& unit) {
    std::vector<std::string> names = {unit.name};
    names.insert(names.end(), unit.aliases.begin(), unit.aliases.end());
    for (const auto& [suffix, kind] : {std::pair{".wants", UnitTie::Wants}, std::pair{".requires", UnitTie::Requires}})
        for (const auto& link : files_.links(names, suffix))
            tie(unit, kind, with_instance(unit, link.unit), said_by_file(link.path));
}

/// What can be told when both ends are loaded.
void UnitStore::Impl::ties_between_all() {
    const auto rule = [](const char* text) { return evidence_place(text); };
    for (auto& [name, unit] : units) {
        if (unit->load != UnitLoad::Loaded) continue;
        // A target comes behind what it pulls in (core/target.c, target_add_default_dependencies).
        if (unit->type() == ".target" && unit->is_on("Unit", "DefaultDependencies", true)) {
            const auto ties = unit->ties;
            for (const auto& one : ties) {
                if (one.tie != UnitTie::Requires && one.tie != UnitTie::Requisite && one.tie != UnitTie::Wants &&
                    one.tie != UnitTie::BindsTo && one.tie != UnitTie::PartOf && one.tie != UnitTie::Upholds)
                    continue;
                const Unit& other = intern(one.unit);
                if (other.load != UnitLoad::Loaded || !other.is_on("Unit", "DefaultDependencies", true) ||
                    unit->has_tie(UnitTie::Before, one.unit))
                    continue;
                tie(*unit, UnitTie::After, one.unit, rule("a target comes behind what it pulls in"));
            }
        }
        const auto paths = mounts_for_.find(name);
        if (paths == mounts_for_.end()) continue;
        for (const auto& path : paths->second) {
            for (std::string prefix = path;; prefix = units::parent_of(prefix)) {
                const Unit* mount = find(UnitStore::name_of_path(prefix, ".mount"));
                if (mount != nullptr && mount != unit.get() && mount->load == UnitLoad::Loaded) {
                    const auto said = rule("paths that it uses lie on that mount");
                    tie(*unit, UnitTie::After, mount->name, said);
                    if (!mount->fragment.empty()) tie(*unit, UnitTie::Requires, mount->name, said);
                }
                if (prefix == "/") break;
            }
        }
    }
}

}  // namespace herberge
