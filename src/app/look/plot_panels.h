#pragma once
#include "app/look/look_pictures.h"

#include <QWidget>
#include <functional>
#include <vector>

class QGridLayout;
class QLabel;

namespace oxgoad {

/// Several plots beside each other, each with a title.
class PlotPanels : public QWidget {
    Q_OBJECT
public:
    explicit PlotPanels(QWidget* parent);
    /// `key` names the colours all panels share; `prepare` is called for frames that are new.
    void show(std::vector<LookPicture::Panel> panels, int across,
              const std::vector<std::pair<QString, QColor>>& key,
              const std::function<void(PlotFrame&)>& prepare);
    std::vector<PlotFrame*> frames() const;

private:
    struct Place {
        QLabel* title;
        PlotFrame* frame;
    };
    QGridLayout* m_layout;
    QLayout* m_key;
    std::vector<Place> m_places;
    std::size_t m_shown = 0;
};

} // namespace oxgoad
