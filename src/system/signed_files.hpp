// SPDX-License-Identifier: MIT
// Which files of a Windows installation are signed: inside, or by a catalogue of the installation.
#pragma once

#include <array>
#include <map>

#include <herberge/signature.hpp>
#include <herberge/system.hpp>

namespace herberge {

class SignedFiles {
public:
    /// `directory`: "/Windows". Nothing is read before the first question.
    SignedFiles(const FileSystem& fs, std::string directory, std::string volume);

    /// Catalogues are looked at only for images that carry no signature themselves.
    [[nodiscard]] FileSignature of(const ByteSource& image);
    /// How many catalogues there are to look in.
    [[nodiscard]] std::size_t catalogues();

private:
    struct Listed {
        std::array<std::uint8_t, 32> digest{};  ///< shorter ones end with zeros
        std::uint32_t catalogue = 0;
    };
    void load();
    [[nodiscard]] std::optional<std::uint32_t> find(std::span<const std::uint8_t> digest) const;

    const FileSystem& fs_;
    std::string directory_;
    std::string volume_;
    bool loaded_ = false;
    std::vector<std::string> paths_;
    std::vector<Listed> listed_;
};

}  // namespace herberge
