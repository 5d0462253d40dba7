//! A question to a table: what `query` reads from its arguments, and `console` from a line.

use anyhow::{Result, bail};
use clap::Args;
use nepheline::{Database, NamedValues, Paging, RunsQueries as _};
use nepheline_live::{LiveQuery, LiveRows};

use crate::answer::Answer;

/// The most rows, unless another limit is asked for.
const LIMIT: u64 = 50;

/// The question to a table.
#[derive(Debug, Clone, Default, Args)]
pub(crate) struct Question {
    /// Keep the rows for which this condition in CQL2 holds, such as "depth_m > 100 AND site.region LIKE 'Upper%'".
    #[arg(long = "where", value_name = "CQL2")]
    pub(crate) filter: Option<String>,

    /// Show these columns, and columns of relations: "label, borehole.site.region". Without it, all columns.
    #[arg(long, value_name = "NAMES", conflicts_with_all = ["per", "total"])]
    pub(crate) show: Option<String>,

    /// Group by these.
    #[arg(long, value_name = "NAMES")]
    pub(crate) per: Option<String>,

    /// Compute these for each group, or for all rows: "count, sum(depth_m) as metres".
    #[arg(long, value_name = "TOTALS")]
    pub(crate) total: Option<String>,

    /// Keep the groups for which this condition holds, by the names of the keys and totals.
    #[arg(long, value_name = "CQL2")]
    pub(crate) having: Option<String>,

    /// Sort by these; a minus sorts in descending order, as in --order=-depth_m,name.
    #[arg(long, value_name = "NAMES", allow_hyphen_values = true)]
    pub(crate) order: Option<String>,

    /// The most rows; 0 for all.
    #[arg(long, value_name = "ROWS", default_value_t = LIMIT)]
    pub(crate) limit: u64,

    /// The number of the page, of as many rows as the limit.
    #[arg(long, value_name = "PAGE", default_value_t = 1)]
    pub(crate) page: u64,
}

impl Question {
    /// Returns the question for the first rows of a table.
    pub(crate) fn without_clauses() -> Question {
        Question { limit: LIMIT, page: 1, ..Question::default() }
    }

    /// Returns the query, without its limit.
    pub(crate) fn asked(&self, mut query: LiveQuery) -> Result<LiveRows> {
        if let Some(filter) = &self.filter {
            query = query.filter(filter);
        }
        if let Some(names) = &self.show {
            query = query.show(names);
        }
        if let Some(names) = &self.order {
            query = query.sort_by(names);
        }
        let totals = match (&self.per, &self.total) {
            (None, None) => None,
            (keys, totals) => {
                Some((keys.as_deref().unwrap_or(""), totals.as_deref().unwrap_or("count")))
            }
        };
        match (totals, &self.having) {
            (Some((keys, totals)), having) => {
                query = query.totals(keys, totals);
                if let Some(having) = having {
                    query = query.having(having);
                }
            }
            (None, Some(_)) => bail!("`having` needs groups: give `per`, `total` or both"),
            (None, None) => {}
        }
        Ok(query.rows()?)
    }

    /// Reads the rows of the page.
    pub(crate) async fn read(&self, db: &Database, query: &LiveRows) -> Result<Answer> {
        let names = query.names().map(str::to_owned).collect();
        if self.limit == 0 {
            let rows: Vec<NamedValues> = db.read(query).await?;
            return Ok(Answer { names, all: rows.len(), rows });
        }
        let page = db
            .read_page(query, Paging::page_size(self.limit).page(self.page))
            .await?;
        let all = usize::try_from(page.total_rows()).unwrap_or(usize::MAX);
        Ok(Answer { names, rows: page.into_rows(), all })
    }

    /// Limits the rows to those of the page.
    pub(crate) fn paged(&self, query: LiveRows) -> LiveRows {
        match self.limit {
            0 => query,
            limit => {
                let skipped = self.page.saturating_sub(1).saturating_mul(limit);
                let query = query.limit(limit);
                if skipped > 0 { query.offset(skipped) } else { query }
            }
        }
    }
}
