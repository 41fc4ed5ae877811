// SPDX-License-Identifier: MIT
// The table of layers, and the rounds in which volumes are made of others until there is nothing more to make.
#include "storage/layers.hpp"

#include <algorithm>
#include <map>

#include "files/btrfs.hpp"

namespace herberge {

namespace {

/// Those that need no key.
std::vector<Layer> own_layers(const Machine& machine) {
    return {
        {"Linux RAID", Family::Raid, assemble_md},
        {"LVM", Family::Lvm, [&machine](std::span<const VolumeRef> members) { return assemble_lvm(members, machine); }},
        {"UBI", Family::Ubi, assemble_ubi},
    };
}

constexpr int most_rounds = 8;           // layers inside layers
constexpr std::size_t most_made = 4096;  // volumes in all

/// What a layer made, and of which members.
struct Made {
    std::vector<VolumeRef> members;
    Assembly assembly;
};

std::vector<VolumeRef> members_of(const Machine& machine, Family family) {
    std::vector<VolumeRef> out;
    machine.each_volume(Observer::Linux, [&](const Volume& volume) {
        if (volume.info.is(family)) out.push_back(volume.shared_from_this());
    });
    return out;
}

/// How many layers lie below.
int depth(const Volume& volume) {
    int out = 0;
    for (const auto& member : volume.made_of) out = std::max(out, depth(*member) + 1);
    return out;
}

/// Tells the devices of each Btrfs of one another. All hold the whole file system; it is listed at its first one.
void join_devices(Machine& machine) {
    std::map<std::string, std::vector<VolumeRef*>> groups;
    const auto take = [&](VolumeRef& volume) {
        const auto devices = volume->not_assembled ? std::nullopt : btrfs_devices(*volume->source);
        if (devices && devices->count > 1 && volume->info.is(Family::Btrfs))
            groups[volume->info.uuid].push_back(&volume);
    };
    for (auto& disk : machine.disks)
        for (auto& volume : disk.volumes) take(volume);
    for (auto& volume : machine.layered) take(volume);
    for (const auto& [uuid, group] : groups)
        for (auto* volume : group) {
            std::vector<Source> others;
            for (const auto* other : group)
                if (other != volume) others.push_back((*other)->source);
            const bool first = volume == group.front();
            *volume = (*volume)->joined(std::move(others), first ? std::string{} : (*group.front())->place);
        }
}

}  // namespace

void assemble_layers(Machine& machine) {
    std::vector<Layer> layers = own_layers(machine);
    layers.insert(layers.end(), machine.more_layers.begin(), machine.more_layers.end());
    machine.layered.clear();
    machine.layer_findings.clear();
    machine.understood.clear();
    std::vector<Made> made(layers.size());
    bool more = true;
    for (int round = 0; more && round < most_rounds; ++round) {
        more = false;
        for (std::size_t i = 0; i < layers.size(); ++i) {
            auto members = members_of(machine, layers[i].family);
            if (members == made[i].members) continue;
            made[i] = {members, layers[i].assemble(members)};
            more = true;
        }
        if (!more) break;
        machine.layered.clear();
        for (const auto& one : made)
            for (const auto& volume : one.assembly.made)
                if (machine.layered.size() < most_made) machine.layered.push_back(volume);
    }
    std::ranges::stable_sort(machine.layered, {}, [](const VolumeRef& v) { return depth(*v); });
    join_devices(machine);
    for (const auto& one : made) {
        machine.layer_findings.insert(machine.layer_findings.end(), one.assembly.findings.begin(),
                                      one.assembly.findings.end());
        machine.understood.insert(machine.understood.end(), one.assembly.understood.begin(),
                                  one.assembly.understood.end());
    }
}

}  // namespace herberge
