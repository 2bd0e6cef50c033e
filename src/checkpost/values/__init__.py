"""Values for records: plain, boundary and awkward ones, and such as break exactly one rule."""
