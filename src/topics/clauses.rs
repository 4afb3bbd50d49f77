//! The clauses of the language: words that stand within steps and expressions.

/// What the language knows of a clause.
pub(super) struct Clause {
    pub(super) name: &'static str,
    pub(super) usage: &'static str,
    pub(super) summary: &'static str,
    /// A step over the demo's deliveries.
    pub(super) example: &'static str,
}

pub(super) const CLAUSES: &[Clause] = &[
    Clause {
        name: "per",
        usage: "AGGREGATE per KEY, … | AGGREGATE per table",
        summary: "The aggregate of the row's group, beside each row; the rows stay as they are.",
        example: "add share = litres / sum(litres) per farm",
    },
    Clause {
        name: "where",
        usage: "AGGREGATE where (CONDITION)",
        summary: "Of the rows of a group only those that satisfy the condition go into the aggregate.",
        example: "group by farm: warm = count() where (temp_c > 6)",
    },
    Clause {
        name: "over",
        usage: "CALL over last N rows | over rows between A and B | over range between A and B",
        summary: "The frame of a window function: the rows around each row that it sees.",
        example: "window by farm order by collected_on: week = mean(litres) over last 7 rows",
    },
    Clause {
        name: "each",
        usage: "each | each number | each text | each 'PATTERN' | each A to B [except COLS]",
        summary: "A set of columns: as a whole item one output for each, among arguments all of them at once.",
        example: "add round(each number, 1)",
    },
    Clause {
        name: "named",
        usage: "ITEM named column || 'SUFFIX'",
        summary: "The names of the outputs that a set of columns makes.",
        example: "add round(each number, 1) named column || '_rounded'",
    },
    Clause {
        name: "case",
        usage: "case when CONDITION then VALUE … [else VALUE] end | case X when VALUE then VALUE … end",
        summary: "The value of the first condition that is true, or of the first value that X equals; else null.",
        example: "add size = case when litres > 500 then 'large' when litres > 100 then 'middle' else 'small' end",
    },
    Clause {
        name: "cast",
        usage: "cast(X as TYPE [format 'PATTERN'])",
        summary: "X as another type, stopping the run where it cannot be; dates by a pattern of strftime.",
        example: "add month = cast(collected_on as text format '%Y-%m')",
    },
    Clause {
        name: "try_cast",
        usage: "try_cast(X as TYPE [format 'PATTERN'])",
        summary: "X as another type, null and counted where it cannot be.",
        example: "add number = try_cast(note as int)",
    },
    Clause {
        name: "interval",
        usage: "interval 'N' UNIT | N * interval '1' UNIT",
        summary: "A span of years, quarters, months, weeks, days, hours, minutes or seconds, added to a date or timestamp.",
        example: "add due = collected_on + interval '14' day",
    },
    Clause {
        name: "like",
        usage: "X [not] like 'PATTERN' [escape 'C']",
        summary: "Whether a whole text has a form: % is any characters, _ is one.",
        example: "filter note like '%late%'",
    },
    Clause {
        name: "between",
        usage: "X [not] between LOW and HIGH",
        summary: "Whether X is within both bounds, which belong to it.",
        example: "filter litres between 100 and 500",
    },
    Clause {
        name: "in",
        usage: "X [not] in (A, B, …) | X [not] in TABLE",
        summary: "Whether X equals one of some values: written here, or those of a table of one column.",
        example: "filter grade in ('A', 'B')",
    },
    Clause {
        name: "is null",
        usage: "X is [not] null",
        summary: "Whether a value is missing.",
        example: "filter protein is not null",
    },
    Clause {
        name: "is distinct from",
        usage: "X is [not] distinct from Y",
        summary: "Whether two values differ, null being a value like others.",
        example: "filter grade is distinct from 'A'",
    },
    Clause {
        name: "given",
        usage: "given NAME = LITERAL | = (A, B, …) | = column COLUMN | given NAME TYPE",
        summary: "A parameter of a recipe with its default, used as $NAME; with a type alone it must be given.",
        example: "given threshold = 100",
    },
    Clause {
        name: "define",
        usage: "define NAME(A, B) = EXPRESSION",
        summary: "A function of a recipe's own.",
        example: "define solids(fat, protein) = fat + protein",
    },
    Clause {
        name: "table",
        usage: "table NAME, and its steps indented below",
        summary: "A chain with a name, which read, join, append and in can use; of one row, $NAME.COLUMN is its value.",
        example: "table large\n    read 'deliveries-2026.csv'\n    filter litres > 500",
    },
];
