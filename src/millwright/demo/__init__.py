"""Made-up data about the grain mills at Hollin Bridge, for demonstrations and tests.

Nothing here describes a real place, person or firm. Each data set was made by `make_data` from
the true values that are given with it.
"""

from millwright.demo.data_sets import DATA_SETS, DataSet, load, sheet_path

__all__ = ["DATA_SETS", "DataSet", "load", "sheet_path"]
