// SPDX-License-Identifier: MIT
// The table of layers, and the rounds in which volumes are made of others until there is nothing more to make.
#include "storage/layers.hpp"

#include <algorithm>

namespace herberge {

namespace {

/// Those that need no key.
const Layer own_layers[] = {
    {"Linux RAID", Family::Raid, assemble_md},
    {"LVM", Family::Lvm, assemble_lvm},
};

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

}  // namespace

void assemble_layers(Machine& machine) {
    std::vector<Layer> layers(std::begin(own_layers), std::end(own_layers));
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
    for (const auto& one : made) {
        machine.layer_findings.insert(machine.layer_findings.end(), one.assembly.findings.begin(),
                                      one.assembly.findings.end());
        machine.understood.insert(machine.understood.end(), one.assembly.understood.begin(),
                                  one.assembly.understood.end());
    }
}

}  // namespace herberge
