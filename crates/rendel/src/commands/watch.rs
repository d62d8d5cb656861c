//! `rendel watch`: a session in a terminal that stays up to date: who is here and what they do,
//! what is held, and the tail of the journal in words.

use std::collections::VecDeque;
use std::io::IsTerminal as _;

use anyhow::Result;
use futures_util::StreamExt as _;
use ratatui::crossterm::event::{Event as Input, EventStream, KeyCode, KeyModifiers};
use ratatui::layout::{Constraint, Layout, Rect};
use ratatui::style::{Color, Modifier, Style, Stylize as _};
use ratatui::text::{Line, Span};
use ratatui::widgets::{Block, Borders, Paragraph, Row, Table};
use ratatui::{DefaultTerminal, Frame};
use rendel_client::{Change, Connection, Encoding, Event, Standing, Target};

use crate::api::token_for;
use crate::cli::EnterArgs;
use crate::out::Out;
use crate::words::{doing, update_in_words};

/// Lines of the journal that are kept.
const TAIL: usize = 500;

pub(crate) async fn run(args: &EnterArgs, out: Out) -> Result<()> {
    let token = token_for(&args.reach, &args.session, &args.whom).await?;
    let (server, session) = (args.reach.server.clone(), args.session.clone());
    let connection = Connection::new(
        Target { server, session, token, encoding: Encoding::Json },
        uuid::Uuid::now_v7(),
    );
    let mut watch = Watch { connection, tail: VecDeque::new(), why: String::new() };
    if out.is_json() || !std::io::stdout().is_terminal() {
        return watch.in_lines(out).await;
    }
    let mut terminal = ratatui::init();
    let watched = watch.in_terminal(&mut terminal).await;
    ratatui::restore();
    watch.connection.leave().await;
    watched
}

struct Watch {
    connection: Connection,
    tail: VecDeque<String>,
    /// Why the connection is away.
    why: String,
}

impl Watch {
    /// Where nobody looks at a terminal: a line for each thing that happens.
    async fn in_lines(&mut self, out: Out) -> Result<()> {
        loop {
            let event = self.connection.next().await?;
            self.take(event);
            while let Some(line) = self.tail.pop_front() {
                out.line(&line);
            }
        }
    }

    async fn in_terminal(&mut self, terminal: &mut DefaultTerminal) -> Result<()> {
        let mut inputs = EventStream::new();
        loop {
            terminal.draw(|frame| self.draw(frame))?;
            tokio::select! {
                event = self.connection.next() => {
                    let event = event?;
                    self.take(event);
                }
                input = inputs.next() => match input {
                    Some(Ok(Input::Key(key))) if is_end(key.code, key.modifiers) => return Ok(()),
                    None | Some(Err(_)) => return Ok(()),
                    Some(Ok(_)) => {}
                },
            }
        }
    }

    fn take(&mut self, event: Event) {
        match event {
            Event::Changed(Change::Settled(update)) => self.say(&update_in_words(&update, None)),
            Event::Changed(Change::Welcomed) => self.why.clear(),
            Event::Changed(Change::Roster(change)) => {
                change
                    .joined
                    .iter()
                    .for_each(|one| self.say(&format!("+ {} ({}) is here", one.name, one.role)));
                for left in &change.left {
                    let why = serde_json::to_value(left.why).unwrap_or_default();
                    self.say(&format!(
                        "- {} is gone ({})",
                        left.id,
                        why.as_str().unwrap_or_default()
                    ));
                }
            }
            Event::Changed(Change::Status(change)) => {
                self.say(&format!("the session is {}, by {}", change.status, change.by));
            }
            Event::Changed(Change::Holds(change)) => {
                change
                    .taken
                    .iter()
                    .for_each(|hold| self.say(&format!("{} holds {}", hold.by, hold.at)));
                change.freed.iter().for_each(|at| self.say(&format!("{at} is free")));
            }
            Event::Cued(cue) => self.say(&format!("{} calls: {}", cue.by, cue.name)),
            Event::Away { why, .. } => self.why = why,
            _ => {}
        }
    }

    fn say(&mut self, words: &str) {
        self.tail.extend(
            words.lines().map(|line| line.chars().filter(|one| !one.is_control()).collect()),
        );
        while self.tail.len() > TAIL {
            self.tail.pop_front();
        }
    }

    fn draw(&self, frame: &mut Frame<'_>) {
        let people = self.connection.replica().roster().len();
        let holds = self.connection.replica().holds().len();
        let rows = |count: usize, most: u16| u16::try_from(count).unwrap_or(most).clamp(1, most);
        let parts = [
            Constraint::Length(2),
            Constraint::Length(rows(people, 14) + 2),
            Constraint::Length(rows(holds, 6) + 1),
            Constraint::Min(3),
            Constraint::Length(1),
        ];
        let [head, who, held, tail, foot] = Layout::vertical(parts).areas(frame.area());
        self.draw_head(frame, head);
        self.draw_people(frame, who);
        self.draw_holds(frame, held);
        self.draw_tail(frame, tail);
        frame.render_widget(Paragraph::new("q leaves").dim(), foot);
    }

    fn draw_head(&self, frame: &mut Frame<'_>, area: Rect) {
        let replica = self.connection.replica();
        let standing = match self.connection.standing() {
            Standing::Waiting => "waiting …".to_owned(),
            Standing::Present => "up to date".to_owned(),
            Standing::CatchingUp => "catching up …".to_owned(),
            Standing::Away { .. } => format!("away: {}", self.why),
        };
        let line = match replica.session() {
            None => Line::from(standing),
            Some(session) => Line::from(vec![
                Span::from(session.id.clone()).bold(),
                Span::from(format!(
                    "  {} v{}  {}  #{}  ",
                    session.charter,
                    session.version,
                    session.status,
                    replica.seq()
                )),
                Span::from(standing).dim(),
            ]),
        };
        frame.render_widget(Paragraph::new(line), area);
    }

    fn draw_people(&self, frame: &mut Frame<'_>, area: Rect) {
        let replica = self.connection.replica();
        let row = |one: &rendel_wire::Participant| {
            let told = replica.presence().get(&one.id);
            let doing = told.map(|told| doing(told.values())).unwrap_or_default();
            let tabs = if one.away {
                "away".to_owned()
            } else {
                format!("{} tab{}", one.connections, if one.connections == 1 { "" } else { "s" })
            };
            let style =
                if one.away { Style::new().add_modifier(Modifier::DIM) } else { Style::new() };
            let name = Span::styled(format!("● {}", one.name), Style::new().fg(colour(one.hue)));
            Row::new([Line::from(name), one.role.clone().into(), tabs.into(), doing.into()])
                .style(style)
        };
        let widths = [
            Constraint::Length(24),
            Constraint::Length(12),
            Constraint::Length(8),
            Constraint::Min(20),
        ];
        let table = Table::new(replica.roster().iter().map(row), widths);
        frame.render_widget(
            table.block(panel(&format!(" here: {} ", replica.roster().len()))),
            area,
        );
    }

    fn draw_holds(&self, frame: &mut Frame<'_>, area: Rect) {
        let holds = self.connection.replica().holds();
        let lines: Vec<Line<'_>> = match holds.is_empty() {
            true => vec![Line::from("  nothing").dim()],
            false => holds
                .values()
                .map(|hold| Line::from(format!("  {:<40} {}", hold.at, hold.by)))
                .collect(),
        };
        frame.render_widget(Paragraph::new(lines).block(panel(" held ")), area);
    }

    fn draw_tail(&self, frame: &mut Frame<'_>, area: Rect) {
        let space = usize::from(area.height.saturating_sub(1));
        let skipped = self.tail.len().saturating_sub(space);
        let lines: Vec<Line<'_>> = match self.tail.is_empty() {
            true => vec![Line::from("  nothing yet").dim()],
            false => {
                self.tail.iter().skip(skipped).map(|line| Line::from(format!("  {line}"))).collect()
            }
        };
        frame.render_widget(Paragraph::new(lines).block(panel(" what happens ")), area);
    }
}

fn panel(title: &str) -> Block<'static> {
    Block::new()
        .borders(Borders::TOP)
        .title(title.to_owned())
        .border_style(Style::new().fg(Color::DarkGray))
}

fn is_end(code: KeyCode, modifiers: KeyModifiers) -> bool {
    matches!(code, KeyCode::Char('q') | KeyCode::Esc)
        || (code == KeyCode::Char('c') && modifiers.contains(KeyModifiers::CONTROL))
}

/// The colour that goes with a hue, of a lightness that reads on dark and light.
fn colour(hue: u16) -> Color {
    let (chroma, light): (f64, f64) = (0.42, 0.58);
    let part = |offset: f64| {
        let turn = (f64::from(hue) / 30.0 + offset).rem_euclid(12.0);
        let level =
            light - chroma * light.min(1.0 - light) * (turn - 3.0).min(9.0 - turn).clamp(-1.0, 1.0);
        // Between 0 and 255 by construction.
        format!("{:.0}", (level * 255.0).clamp(0.0, 255.0)).parse().unwrap_or(128)
    };
    Color::Rgb(part(0.0), part(8.0), part(4.0))
}
