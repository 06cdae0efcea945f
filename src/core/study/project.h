#pragma once
// The project file: the trail, the rows as they were read, and where the analyst stood.
#include "study/evaluate.h"
#include "study/trail.h"

#include <filesystem>
#include <map>
#include <memory>
#include <string>
#include <vector>

namespace oxgoad {

struct Project {
    Trail trail;
    /// Number of the fit that is shown; 0 when there is none yet.
    int current = 0;
    /// The recipe being edited; equals the current fit's, or a start without a fit.
    Recipe recipe;
    StudyRows rows;
    /// What fits of the trail learned from these rows, by number; as many as were at hand. A project opened
    /// with one forecasts, scores and explores by it without fitting.
    std::map<int, std::shared_ptr<const Study>> studies;
    /// Folder that relative file names in recipes start from.
    std::string folder;
    /// What the window wants to find again: station, chosen columns. Plain text keys and values.
    std::map<std::string, std::string> view;
};

/// Form 5 added what folds found. Form 4 added models. Form 3 added a checksum for each part. Form 2 added
/// the looks at test rows, steps and sources other than text files; forms 1 to 4 are read.
constexpr int projectVersion = 6;

/// Writes one SQLite file, documented in docs/project.md, beside its place and renames it over the old one:
/// whatever interrupts it, the old file is whole. Errors: cannotWrite. Throws Stopped before the rename.
void saveProject(const std::filesystem::path& path, const Project& project, Progress& progress);

/// Errors: fileNotFound, notAFile, cannotRead, badProject (not a project), damagedProject (one with a part
/// that is not as it was written; the part is named, and salvageProject() reads the rest), newerVersion. The
/// file is opened for reading only, and nothing it holds is run: tables only, no views, triggers or
/// functions. Throws Stopped.
Project openProject(const std::filesystem::path& path, Progress& progress);

/// What is whole in a damaged project.
struct Salvaged {
    Project project;
    /// What is not there: "column list_rate", "fit 3".
    std::vector<std::string> lost;
    std::vector<std::string> lostColumns;
};
/// Fits whose own fit is lost come from the one before it. Errors as openProject; damagedProject when not
/// even the rows' columns can be read.
Salvaged salvageProject(const std::filesystem::path& path, Progress& progress);

} // namespace oxgoad
