#pragma once
// The errors of folds as small marks on one scale, and those of repeats below.
#include "study/judge.h"

#include <QString>
#include <QWidget>

#include <memory>

namespace oxgoad {

/// "errors of 10 folds, from 12,100 to 15,900; of 5 dealings from 14,000 to 14,400".
QString foldMarksText(const FoldEvidence& folds, const QString& unit);

/// Draws nothing that its accessible name does not say.
class FoldMarks : public QWidget {
    Q_OBJECT
public:
    FoldMarks(std::shared_ptr<const FoldEvidence> folds, const QString& unit, QWidget* parent);
    QSize sizeHint() const override { return {118, 22}; }

protected:
    void paintEvent(QPaintEvent* event) override;

private:
    std::shared_ptr<const FoldEvidence> m_folds;
};

} // namespace oxgoad
