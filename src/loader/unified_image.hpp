// SPDX-License-Identifier: MIT
// Unified kernel images: kernel, RAM disk, command line and the system's name in the sections of one EFI program.
#pragma once

#include <herberge/loader.hpp>

namespace herberge::loader {

struct UnifiedImage {
    FileReference file;
    MenuEntry entry;  ///< kernel (stopped where the stub does not start it), RAM disk, arguments; the title is for who
                      ///< lists it
    /// Of .osrel (os-release(5)): PRETTY_NAME, ID, IMAGE_ID, and the first of VERSION_ID, IMAGE_VERSION, BUILD_ID,
    /// VERSION.
    std::string title, id, image_id, version;
};

/// The image at `path` of `volume`, as systemd's stub 252 and its boot manager read it (src/boot/efi/stub.c, boot.c).
/// An error's `what` is the file's place and its `found` why no entry can be made of it.
Result<UnifiedImage> read_unified(const Volume& volume, const std::string& path, EfiMachine firmware);

/// What the stub of the image does with the text that its starter hands over: it counts instead of the image's own
/// where that is absent, or where no Secure Boot is enforced (stub.c, 252).
std::string unified_arguments(const UnifiedImage& image, const EfiContext& context);

}  // namespace herberge::loader
