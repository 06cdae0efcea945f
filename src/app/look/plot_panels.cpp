#include "app/look/plot_panels.h"

#include "app/parts.h"

#include <QGridLayout>
#include <QHBoxLayout>
#include <QVBoxLayout>

namespace oxgoad {

PlotPanels::PlotPanels(QWidget* parent) : QWidget(parent) {
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(0, 0, 0, 0);
    layout->setSpacing(2);
    m_key = new QHBoxLayout;
    layout->addLayout(m_key);
    m_layout = new QGridLayout;
    layout->addLayout(m_layout, 1);
    m_layout->setContentsMargins(0, 0, 0, 0);
    m_layout->setSpacing(2);
}

void PlotPanels::show(std::vector<LookPicture::Panel> panels, int across,
                      const std::vector<std::pair<QString, QColor>>& key,
                      const std::function<void(PlotFrame&)>& prepare) {
    while (QLayoutItem* item = m_key->takeAt(0)) {
        delete item->widget();
        delete item;
    }
    for (const auto& [name, colour] : key) {
        auto* label = plainLabel("■ " + name, {}, this);
        label->setStyleSheet(QString("color: %1; font-size: 11px; font-weight: 600;").arg(colour.name()));
        m_key->addWidget(label);
    }
    if (!key.empty()) static_cast<QHBoxLayout*>(m_key)->addStretch(1);
    while (m_places.size() < panels.size()) {
        Place place{plainLabel({}, "panelTitle", this), new PlotFrame(tr("Panel"), this)};
        place.title->setFont(theme::font(theme::smallSize, true));
        place.frame->setObjectName(QString("panel%1").arg(m_places.size()));
        prepare(*place.frame);
        m_places.push_back(place);
    }
    m_shown = panels.size();
    for (std::size_t k = 0; k < m_places.size(); ++k) {
        auto& [title, frame] = m_places[k];
        m_layout->removeWidget(title);
        m_layout->removeWidget(frame);
        title->setVisible(k < m_shown);
        frame->setVisible(k < m_shown);
        if (k >= m_shown) continue;
        const int row = 2 * (static_cast<int>(k) / across), column = static_cast<int>(k) % across;
        m_layout->addWidget(title, row, column, Qt::AlignLeft);
        m_layout->addWidget(frame, row + 1, column);
        m_layout->setRowStretch(row, 0);
        m_layout->setRowStretch(row + 1, 1);
        title->setText(panels[k].title);
        title->setAccessibleName(panels[k].title);
        frame->setAccessibleName(panels[k].title);
    }
    const int rows = (static_cast<int>(m_shown) + across - 1) / across;
    for (int row = 2 * rows; row < m_layout->rowCount(); ++row)
        m_layout->setRowStretch(row, 0);
    m_layout->activate();
    for (std::size_t k = 0; k < m_shown; ++k)
        m_places[k].frame->show(std::move(panels[k].content));
}

std::vector<PlotFrame*> PlotPanels::frames() const {
    std::vector<PlotFrame*> frames;
    for (std::size_t k = 0; k < m_shown; ++k)
        frames.push_back(m_places[k].frame);
    return frames;
}

} // namespace oxgoad
