import re

from yaffle.report.flat_svg import flat_svg

HEAD = '<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 100 100">'


def test_points_stand_where_they_are_seen():
    svg = flat_svg(
        f'{HEAD}<g stroke="#000" transform="matrix(10,0,0,-2,5,90)">'
        '<path vector-effect="non-scaling-stroke" d="M0,0 L1,10"/>'
        '<polyline vector-effect="non-scaling-stroke" points="0,0 2,5 "/>'
        '<rect vector-effect="non-scaling-stroke" x="1" y="1" width="2" height="3"/></g></svg>'
    )
    assert 'd="M 5.00,90.00 L 15.00,70.00"' in svg
    assert 'points="5.00,90.00 25.00,80.00"' in svg
    assert re.search(r'x="15.00" y="82.00" width="20.00" height="6.00"', svg)
    assert "matrix" not in svg and "vector-effect" not in svg


def test_strokes_that_scale_keep_their_transformation():
    svg = flat_svg(f'{HEAD}<g transform="matrix(2,0,0,2,0,0)"><path vector-effect="none" d="M0,0 L1,1"/></g></svg>')
    assert 'transform="matrix(2,0,0,2,0,0)"' in svg and 'd="M0,0 L1,1"' in svg


def test_bars_of_one_look_become_one_path_and_nothing_empty_stays():
    svg = flat_svg(
        f'{HEAD}<title>t</title><g fill="#123"><rect x="0" y="0" width="2" height="3"/>'
        '<rect x="4" y="0" width="2" height="0"/><rect x="6" y="1" width="1" height="1"/></g><g><g/></g></svg>'
    )
    assert svg.count("<path") == 1 and svg.count("Z") == 2
    assert "<title" not in svg and svg.count("<g") == 1


def test_marks_behind_masks_are_drawn():
    svg = flat_svg(
        f'{HEAD}<defs><mask id="m"><rect x="3" y="0" width="1" height="1"/></mask><pattern id="p" width="8" height="8">'
        '<rect width="8" height="8" fill="#fff" mask="url(#m)"/></pattern></defs>'
        '<rect fill="url(#p)" width="9" height="9"/></svg>'
    )
    assert "<mask" not in svg and re.search(r'<pattern[^>]*><rect x="3" y="0" width="1" height="1" fill="#fff"', svg)


def test_what_no_xml_may_hold_is_replaced():
    svg = flat_svg(f"{HEAD}<text>desk\x00\x1b\ufffe é</text></svg>")
    assert "desk\ufffd\ufffd\ufffd é" in svg
