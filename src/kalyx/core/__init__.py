"""The computation: machine -> facts -> verdicts -> changes. No printing, no argparse."""
