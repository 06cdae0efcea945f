#pragma once
// The project file: the trail, the rows as they were read, and where the analyst stood.
#include "study/evaluate.h"
#include "study/trail.h"

#include <filesystem>
#include <map>
#include <string>

namespace oxgoad {

struct Project {
    Trail trail;
    /// Number of the fit that is shown; 0 when there is none yet.
    int current = 0;
    /// The recipe being edited; equals the current fit's, or a start without a fit.
    Recipe recipe;
    StudyRows rows;
    /// Folder that relative file names in recipes start from.
    std::string folder;
    /// What the window wants to find again: station, chosen columns. Plain text keys and values.
    std::map<std::string, std::string> view;
};

/// Form 2 added the looks at test rows, steps and sources other than text files; form 1 is read.
constexpr int projectVersion = 2;

/// Writes one SQLite file, documented in docs/project.md, beside its place and renames it over the old one:
/// whatever interrupts it, the old file is whole. Errors: cannotWrite. Throws Stopped before the rename.
void saveProject(const std::filesystem::path& path, const Project& project, Progress& progress);

/// Errors: fileNotFound, notAFile, cannotRead, badProject (not a project, or damaged), newerVersion. The file
/// is opened for reading only.
Project openProject(const std::filesystem::path& path, Progress& progress);

} // namespace oxgoad
