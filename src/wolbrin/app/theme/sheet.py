"""The style sheet, written from the tokens."""

from __future__ import annotations

from wolbrin.app.theme.tokens import BODY, LEAD, SMALL, TITLE, Tokens


def style_sheet(t: Tokens, icons: str) -> str:
    """icons: folder of the shipped icons, with forward slashes."""
    return f"""
* {{ font-family: "IBM Plex Sans"; font-size: {BODY}px; color: {t.ink}; }}
QMainWindow, QDialog, QWidget#page, QWidget#frame {{ background: {t.background}; }}
QWidget#rail, QWidget#strip {{ background: {t.surface}; }}
QFrame#line {{ background: {t.hairline}; border: none; }}
QLabel, QCheckBox, QRadioButton {{ background: transparent; }}
QPlainTextEdit[role="mono"], QLineEdit[role="mono"] {{ font-family: "IBM Plex Mono"; }}
QLabel[role="heading"] {{ font-weight: 600; }}
QLabel[role="title"] {{ font-size: {TITLE}px; font-weight: 600; }}
QLabel[role="lead"] {{ font-size: {LEAD}px; }}
QLabel[role="muted"] {{ color: {t.muted}; }}
QLabel[role="small"] {{ color: {t.muted}; font-size: {SMALL}px; }}
QLabel[role="caution"] {{ color: {t.caution_text}; font-size: {SMALL}px; }}
QLabel[role="question"] {{ color: {t.caution_text}; font-weight: 600; }}
QLabel[role="error"] {{ color: {t.loss_text}; }}
QLabel[role="gain"] {{ color: {t.gain}; font-weight: 600; }}
QLabel[role="loss"] {{ color: {t.loss_text}; font-weight: 600; }}
QLabel[role="accent"] {{ color: {t.accent}; font-weight: 500; }}
QLabel[role="figure"] {{ font-size: {TITLE}px; font-weight: 500; }}
QPushButton {{ background: {t.surface}; border: 1px solid {t.hairline}; border-radius: 2px; padding: 4px 12px;
    font-weight: 500; }}
QPushButton:hover {{ border-color: {t.accent}; }}
QPushButton:focus {{ border: 1px solid {t.accent}; }}
QPushButton:pressed {{ background: {t.selected}; }}
QPushButton:disabled {{ color: {t.muted}; border-color: {t.hairline}; }}
QPushButton[role="main"] {{ background: {t.accent}; color: {t.surface}; border-color: {t.accent}; }}
QPushButton[role="main"]:focus {{ border: 1px solid {t.ink}; }}
QPushButton[role="main"]:disabled {{ background: {t.hairline}; color: {t.muted}; border-color: {t.hairline}; }}
QToolButton {{ background: transparent; border: none; padding: 1px 3px; }}
QToolButton:hover {{ color: {t.accent}; }}
QToolButton:focus {{ background: {t.selected}; }}
QToolButton[role="part"] {{ font-weight: 500; }}
QToolButton[role="brief"] {{ font-size: {LEAD}px; font-weight: 500; }}
QToolButton[role="link"] {{ color: {t.accent}; font-weight: 500; }}
QToolButton[role="link"]:disabled {{ color: {t.muted}; }}
QToolButton[role="choice"] {{ color: {t.muted}; border-bottom: 2px solid transparent; padding: 1px 2px; }}
QToolButton[role="choice"]:checked {{ color: {t.ink}; font-weight: 600; border-bottom: 2px solid {t.accent}; }}
QToolButton::menu-indicator {{ image: none; }}
QLineEdit, QSpinBox, QDoubleSpinBox, QComboBox, QDateEdit, QPlainTextEdit {{ background: {t.surface};
    border: 1px solid {t.hairline}; border-radius: 2px; padding: 2px 5px; min-height: 19px;
    selection-background-color: {t.accent}; selection-color: {t.surface}; }}
QLineEdit:focus, QSpinBox:focus, QDoubleSpinBox:focus, QComboBox:focus, QDateEdit:focus, QPlainTextEdit:focus {{
    border-color: {t.accent}; }}
QLineEdit:disabled, QSpinBox:disabled, QDoubleSpinBox:disabled, QComboBox:disabled, QDateEdit:disabled {{
    color: {t.muted}; background: {t.background}; }}
QLineEdit[state="wrong"] {{ border-color: {t.loss}; }}
QSpinBox::up-button, QSpinBox::down-button, QDoubleSpinBox::up-button, QDoubleSpinBox::down-button,
QDateEdit::up-button, QDateEdit::down-button {{ width: 0; border: none; }}
QComboBox::drop-down {{ border: none; width: 14px; }}
QComboBox::down-arrow {{ image: url({icons}/down-{t.name}.svg); width: 9px; height: 6px; margin-right: 6px; }}
QComboBox QAbstractItemView, QListView {{ background: {t.surface}; border: 1px solid {t.hairline}; outline: 0;
    selection-background-color: {t.selected}; selection-color: {t.ink}; }}
QCheckBox::indicator, QTableView::indicator {{ width: 12px; height: 12px; border: 1px solid {t.muted}; border-radius: 1px;
    background: {t.surface}; }}
QCheckBox::indicator:checked, QTableView::indicator:checked {{ background: {t.accent}; border-color: {t.accent};
    image: url({icons}/tick-{t.name}.svg); }}
QRadioButton::indicator {{ width: 11px; height: 11px; border: 1px solid {t.muted}; border-radius: 6px;
    background: {t.surface}; }}
QRadioButton::indicator:checked {{ background: {t.accent}; border-color: {t.accent}; }}
QRadioButton::indicator:focus {{ border-color: {t.accent}; }}
QRadioButton:focus {{ color: {t.accent}; }}
QCheckBox::indicator:focus {{ border-color: {t.accent}; }}
QCheckBox:focus {{ color: {t.accent}; }}
QTableView {{ background: {t.background}; border: none; gridline-color: transparent; outline: 0;
    selection-background-color: {t.selected}; selection-color: {t.ink}; }}
QTableView::item {{ border-bottom: 1px solid {t.hairline}; padding: 0 6px; }}
QTableView::item:selected {{ background: {t.selected}; color: {t.ink}; }}
QHeaderView {{ background: {t.background}; }}
QHeaderView::section {{ background: {t.background}; color: {t.muted}; border: none;
    border-bottom: 1px solid {t.hairline}; padding: 3px 9px; font-size: {SMALL}px; font-weight: 600; }}
QTableCornerButton::section {{ background: {t.background}; border: none; }}
QScrollArea, QScrollArea > QWidget > QWidget {{ background: transparent; border: none; }}
QScrollBar:vertical {{ width: 9px; background: transparent; }}
QScrollBar:horizontal {{ height: 9px; background: transparent; }}
QScrollBar::handle {{ background: {t.hairline}; border-radius: 4px; min-height: 24px; min-width: 24px; }}
QScrollBar::handle:hover {{ background: {t.muted}; }}
QScrollBar::add-line, QScrollBar::sub-line, QScrollBar::add-page, QScrollBar::sub-page {{ background: none;
    border: none; width: 0; height: 0; }}
QProgressBar {{ background: {t.hairline}; border: none; max-height: 8px; min-height: 8px; }}
QProgressBar::chunk {{ background: {t.accent}; }}
QSplitter::handle {{ background: transparent; }}
QSplitter::handle:vertical {{ border-top: 1px solid {t.hairline}; margin-top: 3px; }}
QSplitter::handle:horizontal {{ border-left: 1px solid {t.hairline}; margin-left: 3px; }}
QSplitter::handle:hover {{ border-color: {t.accent}; }}
QMenu {{ background: {t.surface}; border: 1px solid {t.hairline}; padding: 4px; }}
QMenu::item {{ padding: 4px 22px 4px 12px; }}
QMenu::item:selected {{ background: {t.selected}; }}
QMenu::item:disabled {{ color: {t.muted}; }}
QMenu::separator {{ height: 1px; background: {t.hairline}; margin: 4px 6px; }}
QFrame#popup {{ background: {t.surface}; border: 1px solid {t.accent}; }}
QToolTip {{ background: {t.surface}; color: {t.ink}; border: 1px solid {t.hairline}; padding: 3px; }}
QSlider::groove:horizontal {{ height: 2px; background: {t.hairline}; }}
QSlider::handle:horizontal {{ width: 10px; margin: -6px 0; background: {t.accent}; border-radius: 2px; }}
"""
