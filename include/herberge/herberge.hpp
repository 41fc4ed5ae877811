// SPDX-License-Identifier: MIT
// Everything.
#pragma once

#include <herberge/artifact.hpp>
#include <herberge/budget.hpp>
#include <herberge/bytes.hpp>
#include <herberge/chain.hpp>
#include <herberge/efi_files.hpp>
#include <herberge/error.hpp>
#include <herberge/fields.hpp>
#include <herberge/files.hpp>
#include <herberge/finding.hpp>
#include <herberge/hive.hpp>
#include <herberge/loader.hpp>
#include <herberge/partition.hpp>
#include <herberge/pe.hpp>
#include <herberge/rehearsal.hpp>
#include <herberge/report.hpp>
#include <herberge/sector.hpp>
#include <herberge/signature.hpp>
#include <herberge/storage.hpp>
#include <herberge/system.hpp>
#include <herberge/uefi.hpp>
#include <herberge/unlock.hpp>
