"""What is understood of a contract: resources, keys, fields, envelopes, relations, flaws."""

from __future__ import annotations

import unittest
from typing import Any

from checkpost.demo.description import describe
from checkpost.demo.seedbank import TABLES
from checkpost.demo.spellings import SPELLINGS
from checkpost.model.correction import Correction
from checkpost.model.flaws import flaws
from checkpost.model.infer import infer
from checkpost.model.paths import Family, families, singular
from checkpost.model.resource import Model
from checkpost.model.unfolding import with_values
from tests.foreign import STYLES, Library
from tests.support import contract_of

ROW = {"type": "object", "properties": {"id": {"type": "integer"}, "name": {"type": "string"}}}


def operation(schema: Any = None, body: Any = None, **more: Any) -> dict[str, Any]:
    made: dict[str, Any] = {"responses": {"200": {"description": "", **_content(schema)}}, **more}
    if body is not None:
        made["requestBody"] = _content(body)
    return made


def _content(schema: Any) -> dict[str, Any]:
    return {"content": {"application/json": {"schema": schema}}} if schema is not None else {}


def model_of(paths: dict[str, Any], corrections: dict[str, Correction] | None = None, **schemas: Any) -> Model:
    document = {
        "openapi": "3.1.0",
        "info": {"title": "t", "version": "1"},
        "paths": paths,
        "components": {"schemas": schemas},
    }
    return infer(contract_of(document), corrections)


class StandIn(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.contract = contract_of(describe(TABLES, "http://127.0.0.1/v1", SPELLINGS["brackets"]))
        cls.model = infer(cls.contract)

    def test_every_table_is_understood_from_its_description_alone(self) -> None:
        for table in TABLES:
            resource = self.model.resource(table.path.strip("/"))
            if not table.exposed:
                self.assertIsNone(resource)
                continue
            assert resource is not None and resource.key is not None
            self.assertEqual(resource.key.fields, table.key)
            self.assertEqual(resource.key.assigned_by, table.key_from)
            self.assertEqual(set(resource.operations) >= {"list", "create", "read", "delete"}, True)
            self.assertEqual("update" in resource.operations, table.updatable)
            references = {relation.field: relation.resource for relation in resource.relations}
            self.assertEqual(references, {c.name: c.references for c in table.columns if c.references})
            self.assertEqual(
                {f.name for f in resource.fields if f.required}, {c.name for c in table.columns if c.required}
            )
            self.assertEqual(
                {f.name for f in resource.fields if f.unique_reason}, {c.name for c in table.columns if c.unique}
            )
            for column in table.columns:
                field = resource.field(column.name)
                assert field is not None
                wanted = (column.nullable, column.read_only, column.write_only)
                self.assertEqual((field.nullable, field.read_only, field.write_only), wanted, column.name)

    def test_it_has_no_doubts_and_no_flaws(self) -> None:
        self.assertEqual(self.model.doubts, ())
        self.assertEqual([str(operation) for operation, _ in self.model.others], ["POST /login", "POST /logout"])
        self.assertEqual(flaws(self.contract, self.model), [])


class Styles(unittest.TestCase):
    def test_foreign_styles_are_understood_without_help(self) -> None:
        expected = {
            "bare arrays, key only, success documented alone": ("id", "", "", "", None, "none"),
            "data and meta, pages, wrapped bodies": ("uuid", "/data", "/data", "/data", "/meta/total", "page"),
            "value, no content, key named in the path": ("isbn", "/value", "", "", None, "offset"),
            "slashes at the ends, errors documented by a range": ("id", "/results", "", "", "/count", "offset"),
            "results, next link, camel case, no PATCH": ("id", "/results", "", "", "/count", "next"),
        }
        for style in STYLES:
            with self.subTest(style=style.name):
                books = infer(contract_of(Library(style).contract())).resource("books")
                assert books is not None and books.key is not None
                envelope = books.envelope
                seen = (
                    *books.key.fields,
                    envelope.rows,
                    envelope.row,
                    envelope.body,
                    envelope.total,
                    books.paging.style,
                )
                self.assertEqual(seen, expected[style.name])
                self.assertEqual([relation.resource for relation in books.relations], ["authors"])
                self.assertEqual(books.partial_replace, style.partial_put)


class Paths(unittest.TestCase):
    def test_collections_and_their_items(self) -> None:
        paths = [
            "/a",
            "/a/{id}",
            "/b",
            "/b/id/{id}",
            "/c",
            "/c({id})",
            "/a/{id}/b",
            "/a/{id}/b/{b_id}",
            "/d/{x}/{y}",
            "/d",
            "/e/",
            "/e/{id}/",
            "/only/{id}",
        ]
        found = {family.collection or family.item: family.item for family in families(paths, {})}
        self.assertEqual(
            found,
            {
                "/a": "/a/{id}",
                "/b": "/b/id/{id}",
                "/c": "/c({id})",
                "/d": "/d/{x}/{y}",
                "/e/": "/e/{id}/",
                "/only/{id}": "/only/{id}",
            },
        )

    def test_names_that_end_alike_are_told_apart(self) -> None:
        names = {family.name for family in families(["/x/items", "/y/items", "/z"], {})}
        self.assertEqual(names, {"x", "y", "z"}, "what holds no more than items is called by what comes before")
        names = {family.name for family in families(["/x/books", "/y/books", "/v1/items"], {})}
        self.assertEqual(names, {"x/books", "y/books", "items"})
        names = {family.name for family in families(["/api/v1/user/keys", "/api/v1/team/keys"], {})}
        self.assertEqual(names, {"user/keys", "team/keys"}, "no more of a path than tells them apart")

    def test_stated_families_are_taken(self) -> None:
        stated = {"things": Family("things", "/list", "/thing/{id}")}
        found = families(["/list", "/thing/{id}", "/other"], stated)
        self.assertEqual([(each.name, each.item) for each in found], [("things", "/thing/{id}"), ("other", None)])

    def test_singular(self) -> None:
        words = {
            "species": "species",
            "vaults": "vault",
            "categories": "category",
            "germination-tests": "germination_test",
        }
        self.assertEqual({word: singular(word) for word in words}, words)


class Inference(unittest.TestCase):
    def test_rows_are_found_under_any_name(self) -> None:
        for name in ("items", "data", "things", "payload"):
            listed = {
                "type": "object",
                "properties": {"total": {"type": "integer"}, name: {"type": "array", "items": ROW}},
            }
            model = model_of({"/things": {"get": operation(listed)}, "/things/{id}": {"get": operation(ROW)}})
            things = model.resources[0]
            self.assertEqual((things.envelope.rows, things.envelope.total), (f"/{name}", "/total"))

    def test_an_array_within_a_row_holds_no_rows_of_its_list(self) -> None:
        keyed = {"id": {"type": "integer"}, "roles": {"type": "array", "items": ROW}}
        for data in (keyed, {"name": {"type": "string"}, "role": {"type": "object", "properties": keyed}}):
            one = {"type": "object", "properties": {"data": {"type": "object", "properties": data}}}
            model = model_of({"/me": {"get": operation(one)}})
            self.assertEqual([each.envelope.rows for each in model.resources if each.envelope.rows], [], data)

    def test_a_list_that_is_drawn_by_chance_is_no_table(self) -> None:
        for words, number in (({"summary": "List random things"}, 1), ({"summary": "List things"}, 2)):
            drawn = {**operation({"type": "array", "items": ROW}), **words}
            listed = operation({"type": "array", "items": ROW})
            paths = {
                "/things": {"get": listed},
                "/things/{id}": {"get": operation(ROW)},
                "/things/sample": {"get": drawn},
            }
            self.assertEqual(len(model_of(paths).resources), number)

    def test_a_path_without_rows_is_no_resource(self) -> None:
        health = {"type": "object", "properties": {"status": {"type": "string"}}}
        model = model_of({"/health": {"get": operation(health)}, "/login": {"post": operation(health, health)}})
        self.assertEqual(model.resources, ())
        settings = {"/settings": {"get": operation(health), "patch": operation(health, health)}}
        self.assertEqual(model_of(settings).resources, ())
        self.assertEqual([str(each) for each, _ in model.others], ["GET /health", "POST /login"])

    def test_key_by_description_parameter_and_usage(self) -> None:
        marked = {
            "type": "object",
            "properties": {
                "no": {"type": "integer", "description": "Note: this is a Primary Key."},
                "name": {"type": "string"},
            },
        }
        model = model_of(
            {"/t": {"get": operation({"type": "array", "items": marked})}, "/t/{x}": {"get": operation(marked)}}
        )
        key = model.resources[0].key
        assert key is not None
        self.assertEqual((key.fields, key.reason.certainty), (("no",), "stated"))
        model = model_of(
            {"/t": {"get": operation({"type": "array", "items": ROW})}, "/t/{tId}": {"get": operation(ROW)}}
        )
        key = model.resources[0].key
        assert key is not None
        self.assertEqual((key.fields, key.reason.certainty), (("id",), "likely"))

    def test_unknown_key_is_a_doubt_with_the_line_that_settles_it(self) -> None:
        row = {"type": "object", "properties": {"colour": {"type": "string"}, "size": {"type": "string"}}}
        paths = {"/t": {"get": operation({"type": "array", "items": row})}, "/t/{x}": {"get": operation(row)}}
        model = model_of(paths)
        self.assertIsNone(model.resources[0].key)
        self.assertIn("key: FIELD", model.doubts[0].settle)
        settled = model_of(paths, {"t": Correction(key=("size",))})
        assert settled.resources[0].key is not None
        self.assertEqual((settled.resources[0].key.fields, settled.doubts), (("size",), ()))

    def test_a_key_that_rows_have_shown_is_chosen_as_its_field_says(self) -> None:
        row = {"type": "object", "required": ["colour"], "properties": {"colour": {"type": "string"}}}
        paths = {"/t": {"get": operation({"type": "array", "items": row})}, "/t/{x}": {"get": operation(row)}}
        made = {**paths, "/t": {**paths["/t"], "post": operation(row, row)}}
        for each, name, assigned in (
            (paths, "colour", "server"),
            (made, "colour", "client"),
            (made, "number", "server"),
        ):
            [resource] = model_of(each, {"t": Correction(shown_key=(name, "string"))}).resources
            assert resource.key is not None
            self.assertEqual((resource.key.fields, resource.key.assigned_by), ((name,), assigned))
            self.assertEqual([field.name for field in resource.fields].count(name), 1)

    def test_a_key_that_rows_have_shown_goes_before_one_whose_name_ends_alike(self) -> None:
        row = {"type": "object", "properties": {"seed_id": {"type": "integer"}}}
        paths = {"/lots": {"get": operation({"type": "array", "items": row})}, "/lots/{id}": {"get": operation(row)}}
        for shown, expected in ((None, "seed_id"), (("id", "integer"), "id")):
            [resource] = model_of(paths, {"lots": Correction(shown_key=shown)}).resources
            assert resource.key is not None
            self.assertEqual(resource.key.fields, (expected,))

    def test_paths_that_differ_in_a_slash_at_their_end_are_one(self) -> None:
        listed = {"type": "array", "items": ROW}
        paths = {
            "/lots/": {"post": operation(ROW, ROW)},
            "/lots": {"get": operation(listed)},
            "/lots/{id}": {"get": operation(ROW)},
            "/lots/{id}/": {"patch": operation(ROW, ROW), "delete": operation()},
            "/lots/{id}/hard-delete": {"delete": operation()},
        }
        for stated in ({}, {"lots": Correction(collection="/lots/", item="/lots/{id}")}):
            [resource] = model_of(paths, stated).resources
            found = {purpose: each.path for purpose, each in resource.operations.items()}
            own = {"create": "/lots/", "list": "/lots", "read": "/lots/{id}", "update": "/lots/{id}/"}
            self.assertEqual(found, {**own, "delete": "/lots/{id}/"})
            assert resource.purge is not None
            self.assertEqual(resource.purge.path, "/lots/{id}/hard-delete")
        beside = {"/lots": {"get": operation(listed)}, "/lots/": {"delete": operation(), "post": operation(ROW, ROW)}}
        [resource] = model_of(beside).resources
        self.assertFalse(
            "delete" in resource.operations and not resource.picked_by_api("delete"), "it removes them all"
        )

    def test_of_paths_that_are_one_that_of_a_key_goes_first(self) -> None:
        paths = {"/lots": {"get": operation({"type": "array", "items": ROW})}}
        for each in ("trail", "id"):
            paths[f"/lots/{{{each}}}"] = {"get": operation(ROW)}
        for order in (paths, dict(reversed(paths.items()))):
            [resource] = model_of(order).resources
            self.assertEqual(resource.item, "/lots/{id}")

    def test_what_empties_the_bin_is_known_by_its_words(self) -> None:
        for said, expected in (("Delete a single lot from trash", "/lots/{id}/trash/"), ("Move it to the trash", None)):
            paths = {
                "/lots/": {"get": operation({"type": "array", "items": ROW})},
                "/lots/{id}/": {"get": operation(ROW), "delete": operation()},
                "/lots/{id}/trash/": {"delete": {**operation(), "description": said}},
            }
            [resource] = model_of(paths).resources
            self.assertEqual(resource.purge.path if resource.purge else None, expected)
        for key, among, expected in (
            ("lot_id", "/archive/{lot_id}", "/archive/{lot_id}"),
            ("id", "/trash/lots/{id}", "/trash/lots/{id}"),
            ("id", "/trash/{id}", None),
        ):
            lots = {"/lots": {"get": operation({"type": "array", "items": ROW})}, among: {"delete": operation()}}
            lots["/lots/{" + key + "}"] = {"get": operation(ROW), "delete": operation()}
            resource = next(each for each in model_of(lots).resources if each.name == "lots")
            self.assertEqual(resource.purge.path if resource.purge else None, expected)

    def test_a_table_whose_name_ends_in_a_word_for_an_action_is_no_action(self) -> None:
        listed = operation({"type": "array", "items": ROW})
        paths = {
            "/saved_query/": {"get": listed, "post": operation(ROW, ROW)},
            "/saved_query/{id}": {"get": operation(ROW)},
            "/saved_query/_info": {"get": operation({"type": "object", "properties": {"columns": {"type": "array"}}})},
            "/saved_query/distinct/{column_name}": {"get": operation(ROW)},
        }
        self.assertNotIn("saved", [each.name for each in model_of(paths).resources])

    def test_a_list_by_an_open_body_that_is_called_a_filter_is_asked_by_its_fields(self) -> None:
        for title, expected in (("Filters", {"id", "name"}), ("Options", set())):
            listing = operation({"type": "array", "items": ROW}, {"type": "object", "title": title})
            paths = {"/lots/list": {"post": listing}, "/lots/read/{id}": {"get": operation(ROW)}}
            [resource] = model_of(paths).resources
            self.assertEqual(set(resource.in_body) & {"id", "name"}, expected)
            self.assertEqual([each.documented for each in resource.queries.filterings], [False] * bool(expected))

    def test_relations_by_name_need_agreeing_types(self) -> None:
        child = {
            "type": "object",
            "properties": {
                "id": {"type": "integer"},
                "thing_id": {"type": "integer"},
                "thingKey": {"type": "boolean"},
                "other_id": {"type": "integer"},
            },
        }
        model = model_of(
            {
                "/things": {"get": operation({"type": "array", "items": ROW})},
                "/things/{id}": {"get": operation(ROW)},
                "/kids": {"get": operation({"type": "array", "items": child}), "post": operation(child, child)},
                "/kids/{id}": {"get": operation(child)},
            }
        )
        kids = model.resource("kids")
        assert kids is not None
        self.assertEqual([(each.field, each.resource) for each in kids.relations], [("thing_id", "things")])
        self.assertIn("other_id looks like a reference", model.doubts[0].message)

    def test_relations_to_one_of_several_whose_paths_end_alike(self) -> None:
        things = {"type": "array", "items": ROW}
        numbers = {each: {"type": "integer"} for each in ("id", "thing_id", "thing", "parent", "things")}
        child = {"type": "object", "properties": numbers}
        paths = {
            "/import/things": {"get": operation(things)},
            "/import/things/{id}": {"get": operation(ROW)},
            "/data/things": {"get": operation(things)},
            "/data/things/{id}": {"get": operation(ROW)},
            "/data/kids": {"get": operation({"type": "array", "items": child}), "post": operation(child, child)},
            "/data/kids/{id}": {"get": operation(child)},
        }
        kids = model_of(paths).resource("kids")
        assert kids is not None
        named = {"thing_id": "data/things", "thing": "data/things", "parent": "kids", "things": "data/things"}
        self.assertEqual({each.field: each.resource for each in kids.relations}, named)

    def test_what_stands_under_rows_that_nothing_tells_is_no_resource(self) -> None:
        bare = {"type": "array", "items": {"type": "object", "properties": {"colour": {"type": "string"}}}}
        paths = {
            "/boxes": {"get": operation(bare)},
            "/boxes/{box}": {"get": operation({"type": "object", "properties": {"colour": {"type": "string"}}})},
            "/boxes/{box}/lids": {"get": operation({"type": "array", "items": ROW})},
            "/boxes/{box}/lids/{id}": {"get": operation(ROW)},
        }
        model = model_of(paths)
        self.assertEqual([each.name for each in model.resources], ["boxes"])
        self.assertIn("GET /boxes/{box}/lids", [str(each) for each, _ in model.others])

    def test_corrections_are_taken_and_skipped_resources_left_out(self) -> None:
        paths = {
            "/a": {"get": operation({"type": "array", "items": ROW})},
            "/b": {"get": operation({"type": "array", "items": ROW})},
        }
        model = model_of(paths, {"a": Correction(unique=("name",)), "b": Correction(skip=True)})
        self.assertEqual([resource.name for resource in model.resources], ["a"])
        name = model.resources[0].field("name")
        assert name is not None and name.unique_reason is not None
        self.assertEqual(name.unique_reason.certainty, "stated")

    def test_required_parameters_get_what_the_contract_or_the_profile_knows(self) -> None:
        def listed(**schema: Any) -> dict[str, Any]:
            query = {"name": "tenant", "in": "query", "required": True, "schema": schema}
            header = {"name": "X-Region", "in": "header", "required": True, "schema": {"enum": ["north", "south"]}}
            return {"/a": {"get": operation({"type": "array", "items": ROW}, parameters=[query, header])}}

        constants = model_of(listed(type="string", default="acme")).resources[0].constants["list"]
        self.assertEqual((constants.query, constants.headers), ({"tenant": "acme"}, {"X-Region": "north"}))
        unknown = model_of(listed(type="string"))
        self.assertEqual(unknown.resources, ())
        self.assertIn("required parameter tenant has no known value", unknown.others[0][1])
        document = {"openapi": "3.1.0", "info": {"title": "t", "version": "1"}, "paths": listed(type="string")}
        stated = (
            infer(contract_of(document), {}, {"tenant": "mine", "X-Region": "south"}).resources[0].constants["list"]
        )
        self.assertEqual((stated.query, stated.headers), ({"tenant": "mine"}, {"X-Region": "south"}))

    def test_paging_and_read_only_fields_as_the_profile_says(self) -> None:
        paths = {
            "/a": {"get": operation({"type": "array", "items": ROW}), "post": operation(ROW, ROW)},
            "/a/{id}": {"get": operation(ROW)},
        }
        said = Correction(paging={"limit": "n", "page": "p", "start": 0, "largest": 7}, read_only=("name",))
        resource = model_of(paths, {"a": said}).resources[0]
        paging = resource.paging
        seen = (paging.style, paging.limit, paging.position, paging.start, paging.largest)
        self.assertEqual(seen, ("page", "n", "p", 0, 7))
        self.assertEqual([field.name for field in resource.writable("create")], ["id"])

    def test_parameters_that_only_sound_like_paging_are_left_alone(self) -> None:
        def paging(*queries: tuple[str, dict[str, Any]]) -> str:
            parameters = [{"name": name, "in": "query", "schema": schema} for name, schema in queries]
            listed = operation({"type": "array", "items": ROW}, parameters=parameters)
            return model_of({"/a": {"get": listed}, "/a/{id}": {"get": operation(ROW)}}).resources[0].paging.style

        number, day = {"type": "integer"}, {"type": "string", "format": "date"}
        self.assertEqual(paging(("limit", number), ("from", day)), "none")
        self.assertEqual(paging(("limit", number), ("from", number)), "offset")
        self.assertEqual(paging(("count", {"type": "boolean"}), ("start", day)), "none")
        self.assertEqual(paging(("page", {"type": "string"})), "page")
        stocks = {"type": "object", "properties": {**ROW["properties"], "count": number, "page": number}}
        parameters = [{"name": each, "in": "query", "schema": number} for each in stocks["properties"]]
        listed = operation({"type": "array", "items": stocks}, parameters=parameters)
        told = model_of({"/a": {"get": listed}, "/a/{id}": {"get": operation(stocks)}}).resources[0].paging
        self.assertEqual((told.style, told.limit), ("none", None), "what is named as fields are filters by them")

    def test_a_bare_noun_counts_all_rows_beside_a_bare_number_of_pages(self) -> None:
        def total(*names: str) -> str | None:
            about = {"type": "object", "properties": {name: {"type": "integer"} for name in names}}
            page = {"type": "object", "properties": {"lots": {"type": "array", "items": ROW}, "meta": about}}
            return model_of({"/lots": {"get": operation(page)}}).resources[0].envelope.total

        self.assertEqual(total("page", "pages", "records"), "/meta/records")
        self.assertIsNone(total("page", "records"), "they may be those of the page")

    def test_values_are_put_into_paths_under_rows_that_nothing_lists(self) -> None:
        rows = {"type": "array", "items": ROW}
        paths = {
            "/sites/{site}": {"get": operation(ROW)},
            "/sites/{site}/lots": {"get": operation(rows), "post": operation(ROW, ROW)},
            "/sites/{site}/lots/{id}": {"get": operation(ROW), "delete": operation()},
        }
        settling = [each.settle for each in model_of(paths).doubts]
        self.assertIn("parameters: {site: VALUE}", settling)
        contract = with_values(contract_of({"openapi": "3.1.0", "info": {}, "paths": paths}), {"site": "oslo 1"})
        lots = infer(contract).resource("lots")
        assert lots is not None
        self.assertEqual(
            (lots.operations["list"].path, lots.item), ("/sites/oslo%201/lots", "/sites/oslo%201/lots/{id}")
        )
        self.assertIn("/sites/{site}", [each.path for each in contract.operations], "what ends a path is a key")

    def test_lists_of_what_are_no_rows_are_no_resources(self) -> None:
        names = {"type": "array", "items": {"type": "string"}}
        silent = {"responses": {"200": {"description": ""}}}
        self.assertEqual(model_of({"/names": {"get": operation(names)}, "/health": {"get": silent}}).resources, ())

    def test_post_on_an_item_is_an_update_where_there_is_no_patch(self) -> None:
        model = model_of(
            {
                "/a": {"get": operation({"type": "array", "items": ROW})},
                "/a/{id}": {"get": operation(ROW), "post": operation(ROW, ROW)},
            }
        )
        self.assertEqual(model.resources[0].operations["update"].method, "POST")

    def test_fields_merge_composition_and_references(self) -> None:
        row = {
            "allOf": [
                {"$ref": "#/components/schemas/Base"},
                {"properties": {"size": {"oneOf": [{"type": "integer", "maximum": 9}, {"type": "null"}]}}},
            ]
        }
        model = model_of(
            {"/a": {"get": operation({"type": "array", "items": row})}, "/a/{id}": {"get": operation(row)}}, Base=ROW
        )
        size = model.resources[0].field("size")
        assert size is not None
        self.assertEqual((size.type, size.nullable, size.keywords["maximum"]), ("integer", True, 9))
        self.assertEqual([field.name for field in model.resources[0].fields], ["id", "name", "size"])


class Flaws(unittest.TestCase):
    def test_each_kind_is_found_where_it_stands(self) -> None:
        bad = {
            "type": "object",
            "properties": {"n": {"type": "integer", "example": "seven", "default": 3}, "id": {"type": "integer"}},
        }
        paths = {
            "/a": {"get": operation({"type": "array", "items": bad}, operationId="same")},
            "/a/{id}": {"get": operation(bad, operationId="same", security=[{"gone": []}])},
            "/none": {"get": {"responses": {}}},
            "/failing": {"get": {"responses": {"400": {"description": ""}}}},
            "/p": {"get": operation(bad, parameters=[{"name": "x", "in": "path", "required": True, "schema": {}}])},
            "/empty": {"delete": {"responses": {"204": operation(bad)["responses"]["200"]}}},
            "/pattern": {"get": operation({"type": "string", "pattern": "("})},
        }
        contract = contract_of({"openapi": "3.1.0", "info": {"title": "t", "version": "1"}, "paths": paths})
        found = flaws(contract, infer(contract))
        kinds = {flaw.kind for flaw in found}
        wanted = {
            "broken-example",
            "duplicate-id",
            "unknown-scheme",
            "no-responses",
            "no-success",
            "stray-parameter",
            "undeclared-parameter",
            "no-not-found",
            "body-of-none",
        }
        self.assertEqual(wanted - kinds, set())
        example = next(flaw for flaw in found if flaw.kind == "broken-example")
        self.assertTrue(example.place.pointer.endswith("/n/example"), example)
        text = contract.library.texts[contract.location].splitlines()
        self.assertIn('"example"', text[contract.line(example.place) - 1])


if __name__ == "__main__":
    unittest.main()
