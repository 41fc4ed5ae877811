// SPDX-License-Identifier: MIT
// How the units that systemd loads come to be tied together.
#pragma once

#include <deque>
#include <map>
#include <set>

#include <herberge/units.hpp>

#include "system/units/files.hpp"
#include "system/units/text.hpp"

namespace herberge {

class UnitStore::Impl {
public:
    Impl(const Volume& root, const CommandLine& arguments, const Machine* machine);

    Unit& load(std::string_view name);
    [[nodiscard]] const Unit* find(std::string_view name) const;

    std::map<std::string, std::unique_ptr<Unit>, std::less<>> units;
    std::vector<Finding> findings;
    std::vector<std::string> other_generators;

private:
    /// The unit of this name, itself or by an alias; it is loaded later.
    Unit& intern(const std::string& name);
    /// `by` at the one end, its other name at the other.
    void tie(Unit& from, UnitTie kind, const std::string& to, const Evidence& said);
    void tie_both(Unit& from, UnitTie first, UnitTie second, const std::string& to, const Evidence& said);
    void drain();

    // store.cpp
    void find_generators();
    void read(Unit& unit);
    bool read_file(Unit& unit, const std::string& path, bool drop_in);
    void ties_of_settings(Unit& unit);
    void ties_of_folders(Unit& unit);
    void ties_between_all();
    void refuse(Unit& unit, UnitLoad load, std::string text, Evidence evidence);
    [[nodiscard]] std::string with_instance(const Unit& unit, const std::string& name) const;
    [[nodiscard]] std::optional<std::string> expanded(const Unit& unit, std::string_view text) const;
    [[nodiscard]] Evidence said_by(const UnitSetting& setting) const;
    [[nodiscard]] Evidence said_by_file(const std::string& path) const;

    // kinds.cpp: what each kind of unit is tied to by itself
    void extras(Unit& unit);
    void service(Unit& unit);
    void socket(Unit& unit);
    void mount(Unit& unit);
    void automount(Unit& unit);
    void swap(Unit& unit);
    void timer(Unit& unit);
    void path(Unit& unit);
    void slice_of(Unit& unit);
    void exec_context(Unit& unit, std::string_view section);
    void at_shutdown(Unit& unit, std::string_view target);
    void starts_another(Unit& unit, std::string_view section, std::string_view key);
    bool starts_early(Unit& unit, std::string_view before);
    void needs_mounts_for(Unit& unit, const std::string& path);
    void needs_device(Unit& unit, const std::string& what, UnitTie kind);
    bool parse_commands(Unit& unit, std::string_view section);
    void verify_service(Unit& unit);

    const FileSystem& fs_;
    std::string volume_;
    const CommandLine& arguments_;
    units::UnitFiles files_;
    units::SpecifierValues values_;
    std::map<std::string, std::string, std::less<>> aliases_;
    std::deque<Unit*> queue_;
    std::map<std::string, std::set<std::string>> mounts_for_;  ///< a unit: paths that must be mounted before it
    bool draining_ = false;
    std::size_t told_of_files_ = 0;  ///< findings of the files that are among the store's own
};

}  // namespace herberge
