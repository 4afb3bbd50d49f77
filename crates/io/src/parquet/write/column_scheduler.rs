//! The columns of row groups on their way into the file: whoever is free takes the next rows of any column.
//!
//! A column's rows are encoded one after the other, those of different columns side by side. Nobody waits until all
//! columns have the same rows: the one that is most behind is taken first.

use std::collections::VecDeque;
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};

use arrow_array::ArrayRef;
use arrow_schema::FieldRef;
use churn_core::parallel::{Threads, guarded};
use churn_core::{Batch, Result};

use super::{ColumnEncoder, Done};
use crate::binary::WriterResources;

/// Parts of rows that may wait while those before them are encoded, and memory for which it is only one.
const AHEAD: usize = 2;
const LITTLE: usize = 16 << 20;

/// What is to be done for a column next.
enum ColumnTask {
    Begin(Box<ColumnEncoder>),
    Rows(Vec<ArrayRef>),
    End,
}

/// The columns.
pub(super) struct ColumnScheduler {
    shared: Arc<Scheduler>,
    threads: Threads,
    ahead: usize,
}

struct Scheduler {
    fields: Vec<FieldRef>,
    /// What encodes each column of the row group that it is at.
    columns: Vec<Mutex<Option<ColumnEncoder>>>,
    state: Mutex<QueueState>,
    moved: Condvar,
}

struct QueueState {
    queues: Vec<ColumnQueue>,
    /// Tasks that are not done.
    open: usize,
    /// Threads that help.
    helpers: usize,
    failed: Option<churn_core::Error>,
}

#[derive(Default)]
struct ColumnQueue {
    tasks: VecDeque<ColumnTask>,
    is_taken: bool,
    /// Its columns of row groups that ended.
    done: VecDeque<Done>,
}

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

impl ColumnScheduler {
    pub(super) fn new(fields: &[FieldRef], resources: &WriterResources) -> ColumnScheduler {
        let queues = fields.iter().map(|_| ColumnQueue::default()).collect();
        let shared = Scheduler {
            fields: fields.to_vec(),
            columns: fields.iter().map(|_| Mutex::new(None)).collect(),
            state: Mutex::new(QueueState { queues, open: 0, helpers: 0, failed: None }),
            moved: Condvar::new(),
        };
        let ahead = if resources.bytes < LITTLE { 1 } else { AHEAD };
        ColumnScheduler { shared: Arc::new(shared), threads: resources.threads.clone(), ahead }
    }

    /// Starts a row group.
    pub(super) fn begin(&self, columns: Vec<ColumnEncoder>) {
        self.add(columns.into_iter().map(|column| ColumnTask::Begin(Box::new(column))));
    }

    /// Appends rows to the row group; waits while too many are not encoded.
    pub(super) fn push(&self, batches: &[Batch]) -> Result<()> {
        let arrays = |i: usize| batches.iter().filter_map(|batch| batch.columns.get(i).cloned()).collect();
        self.add((0..self.shared.fields.len()).map(|i| ColumnTask::Rows(arrays(i))));
        self.settle(self.ahead * self.shared.fields.len())
    }

    /// Ends the row group.
    pub(super) fn end(&self) {
        self.add(self.shared.fields.iter().map(|_| ColumnTask::End));
    }

    /// Works, or waits for others, until at most so many tasks are left.
    pub(super) fn settle(&self, most: usize) -> Result<()> {
        loop {
            let worked = lock(&self.shared.state).open > most && self.shared.one();
            let mut state = lock(&self.shared.state);
            if let Some(error) = state.failed.take() {
                return Err(error);
            }
            if state.open <= most {
                return Ok(());
            }
            if !worked && !state.has_free() {
                drop(self.shared.moved.wait(state).unwrap_or_else(PoisonError::into_inner));
            }
        }
    }

    /// The next row group, once all its columns have ended.
    pub(super) fn ended(&self) -> Option<Vec<Done>> {
        let mut state = lock(&self.shared.state);
        if state.queues.is_empty() || state.queues.iter().any(|queue| queue.done.is_empty()) {
            return None;
        }
        Some(state.queues.iter_mut().filter_map(|queue| queue.done.pop_front()).collect())
    }

    /// Adds a task for each column.
    fn add(&self, tasks: impl Iterator<Item = ColumnTask>) {
        let mut state = lock(&self.shared.state);
        let QueueState { queues, open, helpers, .. } = &mut *state;
        for (queue, task) in queues.iter_mut().zip(tasks) {
            queue.tasks.push_back(task);
            *open += 1;
        }
        while *helpers + 1 < self.threads.count() {
            *helpers += 1;
            let shared = self.shared.clone();
            self.threads.start(move || shared.help());
        }
    }
}

impl Drop for ColumnScheduler {
    /// What nobody waits for any more is not done.
    fn drop(&mut self) {
        lock(&self.shared.state).queues.iter_mut().for_each(|queue| queue.tasks.clear());
    }
}

impl QueueState {
    fn has_free(&self) -> bool {
        self.queues.iter().any(|queue| !queue.is_taken && !queue.tasks.is_empty())
    }
}

impl Scheduler {
    /// Does tasks until none can be taken.
    fn help(&self) {
        loop {
            while self.one() {}
            let mut state = lock(&self.state);
            if !state.has_free() {
                state.helpers -= 1;
                return;
            }
        }
    }

    /// Does the next task of the column that is most behind; false if none can be taken.
    fn one(&self) -> bool {
        let (place, task) = {
            let mut state = lock(&self.state);
            let free = state.queues.iter_mut().enumerate().filter(|(_, queue)| !queue.is_taken);
            let Some((place, queue)) = free.max_by_key(|(_, queue)| queue.tasks.len()) else { return false };
            let Some(task) = queue.tasks.pop_front() else { return false };
            queue.is_taken = true;
            (place, task)
        };
        let made = guarded(|| self.work(place, task));
        let mut state = lock(&self.state);
        state.open -= 1;
        if let Some(queue) = state.queues.get_mut(place) {
            queue.is_taken = false;
        }
        match made {
            Ok(done) => {
                if let Some(queue) = state.queues.get_mut(place) {
                    queue.done.extend(done);
                }
            }
            Err(error) => {
                state.failed.get_or_insert(error);
            }
        }
        self.moved.notify_all();
        true
    }

    fn work(&self, place: usize, task: ColumnTask) -> Result<Option<Done>> {
        let Some((field, slot)) = self.fields.get(place).zip(self.columns.get(place)) else {
            return Ok(None);
        };
        let mut slot = lock(slot);
        match task {
            ColumnTask::Begin(column) => *slot = Some(*column),
            ColumnTask::Rows(arrays) => {
                if let Some(column) = slot.as_mut() {
                    column.push(field, &arrays)?;
                }
            }
            ColumnTask::End => return slot.take().map(ColumnEncoder::finish).transpose(),
        }
        Ok(None)
    }
}
