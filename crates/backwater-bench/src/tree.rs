//! A tree of comments, found by a recursive query.

use std::collections::HashMap;

use backwater::{Cache, Query, Schema, Watch};

use crate::ingest::figure;
use crate::measure::{Figure, alternate};

const SCHEMA: &str =
    "table.comment = { id = 'id', fields = { id = 'int', parent = { to = 'comment' } } }";
const TREE: &str = "WITH RECURSIVE tree(id, depth) AS (SELECT id, 0 FROM comment WHERE parent IS NULL \
    UNION SELECT c.id, depth + 1 FROM tree JOIN comment AS c ON c.parent = tree.id) SELECT id, depth FROM tree";
/// How many comments are written in one run.
const COMMITS: i64 = 1000;

/// The same kept by hand.
#[derive(Default)]
struct Kept {
    children: HashMap<i64, Vec<i64>>,
    parents: HashMap<i64, i64>,
    depths: HashMap<i64, i64>,
}

impl Kept {
    fn add(&mut self, id: i64, parent: Option<i64>) -> i64 {
        let depth = parent.and_then(|parent| self.depths.get(&parent)).map_or(0, |depth| depth + 1);
        if let Some(parent) = parent {
            self.children.entry(parent).or_default().push(id);
            self.parents.insert(id, parent);
        }
        self.depths.insert(id, depth);
        depth
    }

    /// Another parent, and all depths anew.
    fn put(&mut self, id: i64, parent: i64) -> usize {
        if let Some(old) = self.parents.insert(id, parent)
            && let Some(siblings) = self.children.get_mut(&old)
        {
            siblings.retain(|sibling| *sibling != id);
        }
        self.children.entry(parent).or_default().push(id);
        let before = std::mem::take(&mut self.depths);
        let (mut open, mut depth) = (vec![0], 0);
        while !open.is_empty() {
            self.depths.extend(open.iter().map(|id| (*id, depth)));
            let below = open.iter().filter_map(|id| self.children.get(id));
            open = below.flatten().copied().collect();
            depth += 1;
        }
        self.depths.iter().filter(|(id, depth)| before.get(id) != Some(depth)).count()
    }
}

struct Shown {
    cache: Cache,
    tree: Query,
    _kept: Watch,
}

impl Shown {
    fn moved(&self, report: &backwater::Report) -> usize {
        report.delta(&self.tree).map_or(0, |delta| delta.rows().count())
    }

    fn add(&self, id: i64, parent: Option<i64>) -> Result<usize, backwater::Error> {
        let report = self
            .cache
            .commit("commented", |tx| tx.insert("comment", (("id", id), ("parent", parent))))?;
        Ok(self.moved(&report))
    }

    fn put(&self, id: i64, parent: i64) -> Result<usize, backwater::Error> {
        let report =
            self.cache.commit("moved", |tx| tx.update("comment", id, [("parent", parent)]))?;
        Ok(self.moved(&report))
    }
}

/// Comments enter a large tree; one is moved to another place, and all are searched again.
pub(crate) fn tree(size: usize) -> anyhow::Result<Vec<Figure>> {
    let cache = Cache::new(Schema::parse("comments.toml", SCHEMA)?);
    let mut kept = Kept::default();
    let count = size as i64;
    let parent_of = |id: i64| (id > 0).then(|| fastrand::i64(id / 2..id));
    let parents: Vec<(i64, Option<i64>)> = (0..count).map(|id| (id, parent_of(id))).collect();
    cache.commit("comments", |tx| {
        parents
            .iter()
            .try_for_each(|(id, parent)| tx.insert("comment", (("id", *id), ("parent", *parent))))
    })?;
    for (id, parent) in &parents {
        kept.add(*id, *parent);
    }
    let tree = cache.query(TREE, ())?;
    let shown = Shown { _kept: tree.keep_current(), cache, tree };
    anyhow::ensure!(shown.tree.read()?.len() == size, "all comments are in the tree");
    let next = std::cell::Cell::new(count);
    let round = || -> Vec<(i64, i64)> {
        let first = next.replace(next.get() + COMMITS);
        (first..first + COMMITS).map(|id| (id, fastrand::i64(0..first))).collect()
    };
    let (ours, hand) = alternate(
        round,
        |added| added.iter().map(|(id, of)| shown.add(*id, Some(*of)).unwrap_or(0)).sum::<usize>(),
        |added| {
            added.iter().map(|(id, of)| usize::from(kept.add(*id, Some(*of)) > 0)).sum::<usize>()
        },
    );
    let commits = COMMITS as f64;
    let grow = figure("tree/grow", size, ours / commits, "hand-written", hand / commits, 50.0);
    // Only those of the last half are moved, and to others in front of them: no circle.
    let round = || {
        let id = fastrand::i64(count / 2..count);
        (id, fastrand::i64(0..id))
    };
    let (id, parent) = round();
    let moved = (shown.put(id, parent)?, kept.put(id, parent));
    anyhow::ensure!(moved.0 > 0 || moved.1 == 0, "the tree is another one: {moved:?}");
    let (ours, hand) = alternate(
        round,
        |(id, parent)| shown.put(*id, *parent).unwrap_or(0),
        |(id, parent)| kept.put(*id, *parent),
    );
    Ok(vec![grow, figure("tree/move", size, ours, "hand-written", hand, 40.0)])
}
