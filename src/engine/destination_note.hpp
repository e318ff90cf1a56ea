// For whoever finds a drive: a note in plain text on a destination that says what lies there and how files
// come back, and, where the job wants it, the program itself. Neither is a part of the archive format.
#pragma once

#include <string>

#include "store/store.hpp"

namespace kestrum {

inline constexpr const char* note_file_name = "ABOUT-THESE-BACKUPS.txt";
inline constexpr const char* program_folder_name = "kestrum-program";

// Names no machine, no person and no way in.
std::string note_text(bool with_program);

// Writes what is missing there or is of another version of the program. Throws Error as the store does.
void leave_note(Store& store, bool with_program);

}  // namespace kestrum
