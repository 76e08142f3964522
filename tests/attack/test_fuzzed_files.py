"""Whatever stands in a file, the answer is an answer or an error of ours, in time and in little memory."""

from fuzzing import attack


def test_spoilt_files_raise_only_errors_of_ours(tmp_path, state):
    tried, failures = attack(300, seed=20261201, folder=tmp_path, state=state)
    assert sum(tried.values()) == 300
    assert not failures, failures[0][:2]
