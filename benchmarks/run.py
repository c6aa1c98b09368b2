"""Every stated speed, as a ratio against a reference measured in the same run.

Absolute figures say little on a shared machine: the sides of a ratio take turns, and medians of the
rounds are quoted. Run it with `make bench`; `make bench ONLY=clock` runs one part.
"""

from __future__ import annotations

import sys

import bench_border
import bench_clock
import bench_corners
import bench_databases
import bench_engine
import bench_forecast
import bench_forecast_accuracy
import bench_import
import bench_kept
import bench_logs
import bench_notice
import bench_probe
import bench_rehearsal
import bench_report
import bench_schedules
import bench_services
import bench_suite
import bench_workers

PARTS = {
    "kept": bench_kept.main,
    "engine": bench_engine.main,
    "clock": bench_clock.main,
    "border": bench_border.main,
    "schedules": bench_schedules.main,
    "workers": bench_workers.main,
    "corners": bench_corners.main,
    "databases": bench_databases.main,
    "probe": bench_probe.main,
    "suite": bench_suite.main,
    "notice": bench_notice.main,
    "services": bench_services.main,
    "import": bench_import.main,
    "report": bench_report.main,
    "logs": bench_logs.main,
    "rehearsal": bench_rehearsal.main,
    "forecast": bench_forecast.main,
    "forecast_accuracy": bench_forecast_accuracy.main,
}

if __name__ == "__main__":
    chosen = sys.argv[1:] or list(PARTS)
    for name in chosen:
        print(f"\n== {name} ==")
        PARTS[name]()
