#pragma once
// What the pictures of the Look station share; only for their own sources.
#include "app/look/look_pictures.h"
#include "look/points.h"

#include <QObject>
#include <array>
#include <span>

namespace oxgoad {

inline constexpr std::size_t mostGroups = 12;
inline constexpr std::size_t mostLevels = 40;

inline QString tr(const char* text) {
    return QObject::tr(text);
}

/// A request with what every picture needs of it.
struct Looking {
    const LookRequest& request;
    LookScope scope;
    /// Rows that may be drawn: learning and held-out ones among those looked at.
    std::vector<std::uint8_t> shown;
    LookPicture picture;

    const Table& table() const { return request.prepared->table; }
    /// The factor of a name; null when there is none, or when it is `but`.
    const Column* factor(const std::string& name, const Column* but = nullptr) const;
    QString titled(const std::string& name) const;
    /// " EUR", or nothing.
    QString unitOf(const std::string& name) const;
    QString unitOfTarget() const { return unitOf(upName()); }
    const std::string& upName() const { return request.up.empty() ? request.recipe.response : request.up; }
    QString targetTitle() const;
    /// Offers to put terms into the model; those that are there already are not put in twice.
    void offer(const QString& label, const std::vector<Term>& terms);
    /// Offers to keep a sentence as a goad.
    void offerNote(const std::string& column, const QString& says);
};

/// Learning and held-out rows, each with its own mark, coloured by a factor when one is given; only points
/// that are finite. `spread` puts rows of a level a little beside each other.
std::vector<PlotFrame::Marks> marksOf(const Looking& look, std::span<const double> x, bool spread,
                                      const Column* colours = nullptr);

Qt::PenStyle groupStyle(int index);
/// A line with its band, over its own range.
void addLine(PlotFrame::Content& content, const GroupLine& line, LookScales scales, const QString& label,
             int index);
void addCurve(PlotFrame::Content& content, const Curve& curve, LookScales scales, const QString& label,
              const QColor& colour, Qt::PenStyle style);
/// Gives all panels the ranges that hold what each of them shows.
void shareRanges(std::vector<LookPicture::Panel>& panels, LookScales scales, bool across, bool up);
/// Three digits, for the classes of a legend.
QString roundText(double value);
/// "= 0.03" or "< 1e-16".
QString probabilitySaid(double p);

void drawAgainst(Looking& look, Progress& progress);
void drawDistribution(Looking& look, Progress& progress);
void drawCourse(Looking& look, bool season);
void drawMap(Looking& look);

} // namespace oxgoad
