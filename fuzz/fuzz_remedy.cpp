// SPDX-License-Identifier: MIT
// What is read to be changed, and what changing hostile volumes, hives and stores of variables leaves: the first byte
// of the input says which.
#include <algorithm>
#include <cstdlib>
#include <string>

#include <herberge/herberge.hpp>

#include "artifact/hive_writer.hpp"

namespace {

using namespace herberge;
using Bytes = std::vector<std::uint8_t>;

void patches(std::string_view text) {
    const auto patch = read_patch(text);
    if (!patch) return;
    const auto again = read_patch(patch_json(*patch));
    if (!again || again->changes.size() != patch->changes.size() || again->size() != patch->size()) std::abort();
}

void variables(const Bytes& flash) {
    const UefiVariable one{"Boot0007", std::string(UefiVariables::global), 7, {1, 2, 3}};
    const auto changed = with_variables(flash, {&one, 1});
    if (!changed) return;
    const auto read = parse_uefi_flash(*changed);
    if (!read) std::abort();
    const auto* found = read->find("Boot0007");
    if (found == nullptr || found->data != one.data) std::abort();
}

void hives(Bytes file) {
    const auto hive = open_hive(memory_source(std::move(file), "hive", 0));
    const auto tree = hive ? read_hive_tree(**hive) : tl::unexpected(hive.error());
    auto written = tree ? write_hive(*tree) : tl::unexpected(tree.error());
    if (!written) return;
    const auto again = open_hive(memory_source(std::move(*written), "hive", 0));
    if (!again || (*again)->state() != HiveState::Clean) std::abort();
}

/// Files, folders, links and names added to a volume that may be anything; what is laid down must lie on it.
void volumes(Bytes image) {
    const auto size = image.size();
    const auto volume = memory_source(std::move(image), "d1", 1);
    const auto fs = open_file_system(volume, Reader::Kernel);
    if (!fs) return;
    const auto root = (*fs)->root();
    const Bytes content(3000, 'x');
    for (const auto& edits : {(*fs)->with_file(root, "a new file.txt", content), (*fs)->with_directory(root, "folder"),
                              (*fs)->with_link(root, "link", "to/somewhere"), (*fs)->without_name(root, "boot")})
        if (edits)
            for (const auto& edit : *edits)
                if (edit.offset > size || edit.bytes.size() > size - edit.offset) std::abort();
    const auto names = (*fs)->list(root);
    if (!names) return;
    for (std::size_t i = 0; i < std::min<std::size_t>(names->size(), 4); ++i) {
        (void)(*fs)->with_file(root, (*names)[i].name, content);
        (void)(*fs)->resized((*names)[i].id, 100);
        (void)(*fs)->with_permissions((*names)[i].id, 0755);
        (void)(*fs)->with_name(root, "other", (*names)[i].id);
    }
}

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
    if (size == 0) return 0;
    const Bytes rest(data + 1, data + size);
    const std::string_view text(reinterpret_cast<const char*>(data) + 1, size - 1);
    switch (data[0] % 5) {
        case 0: patches(text); break;
        case 1: (void)read_symptom(text); break;
        case 2: variables(rest); break;
        case 3: hives(rest); break;
        default: volumes(rest); break;
    }
    return 0;
}
