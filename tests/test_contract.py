"""Reading contracts: both versions, both syntaxes, references, places, and everything that can be wrong."""

from __future__ import annotations

import json
import os
import tempfile
import time
import unittest
from pathlib import Path
from typing import Any

from checkpost.contract.contract import Contract
from checkpost.contract.errors import ContractError, Place
from checkpost.contract.parse import parse
from checkpost.contract.positions import locate
from checkpost.contract.reader import read_contract
from checkpost.contract.templating import in_braces
from checkpost.contract.validators import Validators
from checkpost.demo.description import describe
from checkpost.demo.seedbank import TABLES
from tests.support import contract_of


def minimal(schema: Any, version: str = "3.1.0", **components: Any) -> dict[str, Any]:
    """A contract with one operation whose answer and body have a schema."""
    content = {"application/json": {"schema": schema}}
    post = {"requestBody": {"content": content}, "responses": {"200": {"description": "", "content": content}}}
    return {
        "openapi": version,
        "info": {"title": "T", "version": "1"},
        "paths": {"/things": {"post": post}},
        "components": {"schemas": components},
    }


def keywords(contract: Contract, value: Any, direction: str = "response") -> set[str]:
    """The keywords that a value breaks in the schema of the one operation."""
    schema = contract.operations[0].responses[0].content[0].schema
    assert schema is not None
    return {each.keyword for each in Validators(contract).violations(schema, value, direction)}  # type: ignore[arg-type]


class Folder(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def write(self, name: str, text: str | bytes) -> str:
        file = self.folder / name
        file.write_bytes(text if isinstance(text, bytes) else text.encode())
        return str(file)


class Reading(Folder):
    def test_json_and_yaml_of_one_contract_are_the_same(self) -> None:
        import yaml

        document = json.loads(json.dumps(describe(TABLES, "http://127.0.0.1/v1")))
        as_json = read_contract(self.write("c.json", json.dumps(document)))
        as_yaml = read_contract(self.write("c.yaml", yaml.safe_dump(document)))
        self.assertEqual(len(as_json.operations), 94)
        names = [[str(each) for each in contract.operations] for contract in (as_json, as_yaml)]
        self.assertEqual(sorted(names[0]), sorted(names[1]))
        self.assertEqual(as_json.library.documents[as_json.location], as_yaml.library.documents[as_yaml.location])

    def test_operation_has_what_the_document_says(self) -> None:
        contract = contract_of(describe(TABLES, "http://127.0.0.1/v1"))
        create = contract.operation("POST", "/species")
        assert create is not None and create.body is not None
        self.assertTrue(create.body.required)
        self.assertEqual([media.name for media in create.body.content], ["application/json"])
        self.assertEqual(create.security, (frozenset({"bearer"}),))
        self.assertFalse(create.open)
        self.assertTrue(contract.operation("GET", "/species").open)  # type: ignore[union-attr]
        created = create.response(201)
        assert created is not None
        self.assertEqual(
            [(header.name, header.required) for header in created.headers], [("ETag", True), ("Location", True)]
        )
        self.assertIsNone(create.response(418))

    def test_ranges_and_default_stand_in_for_a_status(self) -> None:
        document = minimal({"type": "object"})
        responses = document["paths"]["/things"]["post"]["responses"]
        responses["4XX"], responses["default"] = {"description": "range"}, {"description": "default"}
        operation = contract_of(document).operations[0]
        answers = [operation.response(status) for status in (200, 404, 503)]
        self.assertEqual([each.status for each in answers if each], ["200", "4XX", "default"])

    def test_yaml_is_read_by_its_1_2_rules(self) -> None:
        value, _ = parse("c.yaml", b"a: no\nb: 012\nc: 2024-01-31\nd: 0o17\ne: ~\nf: '7'\n200: x\ng: 1e3\nh: true\n")
        self.assertEqual(
            value,
            {"a": "no", "b": 12, "c": "2024-01-31", "d": 15, "e": None, "f": "7", "200": "x", "g": 1000.0, "h": True},
        )

    def test_yaml_anchors_and_merge_keys(self) -> None:
        value, _ = parse("c.yaml", b"base: &b {x: 1, y: 2}\nuse:\n  <<: *b\n  y: 3\nlist: [*b, *b]\n")
        self.assertEqual(value["use"], {"x": 1, "y": 3})
        self.assertEqual(value["list"], [{"x": 1, "y": 2}] * 2)

    def test_references_across_files(self) -> None:
        schemas = {
            "Thing": {"type": "object", "properties": {"n": {"$ref": "#/Number"}}},
            "Number": {"type": "integer"},
        }
        self.write("shared.json", json.dumps(schemas))
        contract = read_contract(self.write("c.json", json.dumps(minimal({"$ref": "shared.json#/Thing"}))))
        self.assertEqual(contract.flaws, ())
        self.assertEqual(keywords(contract, {"n": "x"}), {"type"})
        schema = contract.operations[0].responses[0].content[0].schema
        assert schema is not None
        broken = next(iter(Validators(contract).violations(schema, {"n": "x"}, "response")))
        self.assertTrue(broken.place.location.endswith("shared.json"), broken.place)
        self.assertEqual(broken.place.pointer, "/Number/type")

    def test_places_in_a_file_that_is_named_from_another_folder(self) -> None:
        shown = minimal({"$ref": "#/components/schemas/Thing"}, Thing={"properties": {"n": {"type": "integer"}}})
        name = os.path.relpath(self.write("c.json", json.dumps(shown)))
        self.assertTrue(name.startswith(".."), name)
        contract = read_contract(name)
        schema, validators = contract.operations[0].responses[0].content[0].schema, Validators(contract)
        assert schema is not None
        broken = next(iter(validators.violations(schema, {"n": "x"}, "response")))
        self.assertEqual(broken.place, Place(name, "/components/schemas/Thing/properties/n/type"))
        self.assertEqual(validators.rule(broken.place), "integer")

    def test_large_contract_is_read_in_seconds(self) -> None:
        schemas = {
            f"T{n}": {"type": "object", "properties": {f"f{m}": {"type": "string"} for m in range(20)}}
            for n in range(2000)
        }
        document = minimal({"$ref": "#/components/schemas/T7"}, **schemas)
        started = time.monotonic()
        contract = contract_of(document)
        self.assertEqual(keywords(contract, {"f1": 1}), {"type"})
        self.assertLess(time.monotonic() - started, 20)


class Dialect(unittest.TestCase):
    """Schemas of OpenAPI 3.0 and 3.1 judge alike."""

    def test_nullable(self) -> None:
        old = contract_of(minimal({"type": "string", "enum": ["a"], "nullable": True}, "3.0.3"))
        new = contract_of(minimal({"type": ["string", "null"], "enum": ["a", None]}))
        for contract in (old, new):
            self.assertEqual(keywords(contract, None), set())
            self.assertEqual(keywords(contract, "b"), {"enum"})

    def test_nullable_beside_a_reference(self) -> None:
        schema = {"$ref": "#/components/schemas/A", "nullable": True}
        contract = contract_of(minimal({"type": "object", "properties": {"a": schema}}, "3.0.1", A={"type": "integer"}))
        self.assertEqual(keywords(contract, {"a": None}), set())
        self.assertTrue(keywords(contract, {"a": "x"}))

    def test_exclusive_limits(self) -> None:
        old = contract_of(minimal({"type": "number", "minimum": 3, "exclusiveMinimum": True}, "3.0.0"))
        new = contract_of(minimal({"type": "number", "exclusiveMinimum": 3}))
        for contract in (old, new):
            self.assertTrue(keywords(contract, 3))
            self.assertEqual(keywords(contract, 3.5), set())

    def test_properties_named_like_keywords_are_properties(self) -> None:
        properties = {name: {"type": "string"} for name in ("default", "example", "nullable", "enum", "properties")}
        contract = contract_of(minimal({"type": "object", "properties": properties}, "3.0.0"))
        self.assertEqual(keywords(contract, dict.fromkeys(properties, 1)), {"type"})
        self.assertEqual(keywords(contract, dict.fromkeys(properties, "x")), set())

    def test_formats_are_asserted(self) -> None:
        contract = contract_of(minimal({"type": "string", "format": "date"}))
        self.assertEqual(keywords(contract, "2023-02-30"), {"format"})

    def test_direction(self) -> None:
        schema = {
            "allOf": [{"type": "object", "properties": {"id": {"type": "integer", "readOnly": True}}}],
            "required": ["id", "secret"],
            "properties": {"secret": {"type": "string", "writeOnly": True}},
        }
        contract = contract_of(minimal(schema))
        self.assertEqual(keywords(contract, {"id": 1}), set())
        self.assertEqual(keywords(contract, {"id": 1, "secret": "x"}), {"writeOnly"})
        self.assertEqual(keywords(contract, {"secret": "x"}, "request"), set())
        self.assertEqual(keywords(contract, {}, "request"), {"required"})

    def test_discriminator_decides_between_schemas_that_overlap(self) -> None:
        kind = {"kind": {"type": "string"}}
        cat = {"type": "object", "properties": {**kind, "lives": {"type": "integer"}}}
        dog = {"type": "object", "properties": {**kind, "lives": {"type": "string"}}}
        one_of = {
            "oneOf": [{"$ref": "#/components/schemas/Cat"}, {"$ref": "#/components/schemas/Dog"}],
            "discriminator": {"propertyName": "kind", "mapping": {"d": "#/components/schemas/Dog"}},
        }
        contract = contract_of(minimal(one_of, Cat=cat, Dog=dog))
        self.assertEqual(keywords(contract, {"kind": "Cat"}), set())
        self.assertTrue(keywords(contract, {"kind": "Cat", "lives": "nine"}))
        self.assertTrue(keywords(contract, {"kind": "d", "lives": 9}))

    def test_text_that_is_not_unicode_breaks_nothing(self) -> None:
        self.assertEqual(keywords(contract_of(minimal({"type": "string"})), "\ud800"), set())


class Places(unittest.TestCase):
    def test_line_and_column_in_json_and_yaml(self) -> None:
        text = '{\n "a": [\n  {"b": 1},\n  {"c/d": {"e": [5, 6]}}\n ]\n}'
        places = locate(text, True, ["/a/1/c~1d/e/1", "/a/0", "/a/1/gone", ""])
        self.assertEqual(places["/a/1/c~1d/e/1"], (4, 21))
        self.assertEqual(places["/a/0"], (3, 3))
        self.assertEqual(places["/a/1/gone"], (4, 3))
        yaml_text = "a:\n  - b: 1\n  - c/d:\n      e: [5, 6]\n"
        places = locate(yaml_text, False, ["/a/1/c~1d/e", "/a/0/b", "/a/1/c~1d/e/1"])
        self.assertEqual(places, {"/a/1/c~1d/e": (4, 7), "/a/0/b": (2, 5), "/a/1/c~1d/e/1": (4, 14)})

    def test_every_pointer_of_the_stand_in_is_found(self) -> None:
        text = json.dumps(describe(TABLES, "x"), indent=2)
        pointer = "/components/schemas/Species/properties/notes/maxLength"
        line, _ = locate(text, True, [pointer])[pointer]
        self.assertIn('"maxLength": 2000', text.splitlines()[line - 1])


class Broken(Folder):
    def fails(self, name: str, text: str | bytes, *parts: str) -> None:
        """Reading ends in one sentence that has all the parts."""
        with self.assertRaises(ContractError) as caught:
            read_contract(self.write(name, text))
        message = str(caught.exception)
        self.assertNotIn("\n", message)
        for part in parts:
            self.assertIn(part, message)

    def test_sentences(self) -> None:
        head = "openapi: 3.1.0\ninfo: {title: t}\n"
        cases = [
            ("c.json", '{"openapi": "3.1.0",\n "a" 1}', ("line 2", "not valid JSON")),
            ("c.yaml", head + "paths:\n  - a\n b: 1\n", ("line 5", "not valid YAML")),
            ("c.json", '{"openapi": "3.1.0",\n"a": {"x": 1,\n"x": 2}}', ("line 3", "'x'", "twice")),
            ("c.yaml", head + "info: {}\n", ("line 3", "'info'", "twice")),
            ("c.yaml", "openapi: 4.2.0\n", ("line 1", "4.2.0", "3.0 and 3.1")),
            ("c.json", '{\n"swagger": "1.2"}', ("line 2", "2.0")),
            ("c.json", "[1]", ("top level",)),
            ("c.yaml", "just: yaml\n", ("'openapi'", "missing")),
            ("c.json", "<html></html>", ("HTML",)),
            ("c.yaml", b"\xff\xfe\x00", ("UTF-8",)),
            ("c.yaml", "", ("empty",)),
            ("c.json", "[" * 5000 + "]" * 5000, ("nested", "line 1")),
            ("c.json", '{"a":' * 300 + "1" + "}" * 300, ("nested", "line 1")),
            ("c.yaml", "a: " + "[" * 300 + "]" * 300, ("nested", "line 1")),
            ("c.yaml", head + "x: *gone\n", ("line 3", "gone")),
            ("c.yaml", head + "x: &a [*a]\n", ("line 3", "itself")),
            ("c.yaml", head + "? [a]\n: 1\n", ("line 3", "plain text")),
            ("c.yaml", head + "---\nb: 1\n", ("more than one",)),
        ]
        for name, text, parts in cases:
            with self.subTest(text=str(text)[:40]):
                self.fails(name, text, *parts)

    def test_self_expanding_yaml_is_refused_at_once(self) -> None:
        lines = ["a0: &a0 [x,x,x,x,x,x,x,x,x,x]"]
        lines += [f"a{n}: &a{n} [{','.join([f'*a{n - 1}'] * 10)}]" for n in range(1, 12)]
        started = time.monotonic()
        self.fails("c.yaml", "\n".join(lines), "expands", "line ")
        self.assertLess(time.monotonic() - started, 5)

    def test_too_large_a_file(self) -> None:
        self.fails("c.json", b'{"openapi": "' + b"3" * (30 * 2**20) + b'"}', "30.0 MB", "25 MB")

    def test_missing_file(self) -> None:
        with self.assertRaises(ContractError) as caught:
            read_contract(str(self.folder / "none.yaml"))
        self.assertIn("No such file", str(caught.exception))

    def test_references_that_lead_nowhere_are_flaws_with_their_place(self) -> None:
        text = json.dumps(
            minimal(
                {"$ref": "#/components/schemas/Gone"},
                A={"$ref": "#/components/schemas/B"},
                B={"$ref": "#/components/schemas/A"},
                C={"$ref": "missing.yaml#/X"},
            ),
            indent=1,
        )
        contract = read_contract(self.write("c.json", text))
        kinds = sorted((flaw.kind, flaw.place.pointer.rsplit("/", 1)[-1]) for flaw in contract.flaws)
        self.assertEqual(
            kinds,
            [
                ("cyclic-reference", "A"),
                ("cyclic-reference", "B"),
                ("dangling-reference", "C"),
                ("dangling-reference", "schema"),
                ("dangling-reference", "schema"),
            ],
        )
        self.assertEqual(keywords(contract, {"any": "thing"}), set(), "what they stand for may be anything")
        place = Place(contract.location, "/components/schemas/C")
        self.assertIn('"C"', text.splitlines()[contract.line(place) - 1])

    def test_a_schema_that_refers_to_itself_is_sound(self) -> None:
        tree = {
            "type": "object",
            "properties": {"child": {"$ref": "#/components/schemas/Tree"}, "n": {"type": "integer"}},
        }
        contract = contract_of(minimal({"$ref": "#/components/schemas/Tree"}, Tree=tree))
        self.assertEqual(contract.flaws, ())
        self.assertEqual(keywords(contract, {"child": {"child": {"n": "x"}}}), {"type"})


def described(paths: dict[str, Any], **more: Any) -> str:
    return json.dumps({"openapi": "3.0.3", "info": {"title": "t", "version": "1"}, "paths": paths, **more})


ANSWER = {"get": {"responses": {"200": {"description": ""}}}}


class Catalogues(Folder):
    """Documents that link one description each."""

    def joined(self, catalogue: Any, **documents: str) -> Contract:
        for name, text in documents.items():
            self.write(f"{name}.json", text)
        return read_contract(self.write("catalogue.json", json.dumps(catalogue)))

    def test_every_shape_of_a_catalogue(self) -> None:
        linkset = {
            "linkset": [
                {"anchor": "/", "service-desc": [{"href": "books.json"}]},
                {"service-desc": [{"href": "loans.json"}]},
            ]
        }
        for catalogue in (
            linkset,
            ["books.json", "loans.json"],
            {
                "apis": [
                    {"name": "b", "url": "books.json"},
                    {"name": "l", "properties": [{"type": "OpenAPI", "url": "loans.json"}]},
                ]
            },
            {"resources": {"books": {"$ref": "books.json"}, "loans": {"$ref": "loans.json"}}},
        ):
            with self.subTest(catalogue=catalogue):
                contract = self.joined(
                    catalogue, books=described({"/books": ANSWER}), loans=described({"/loans": ANSWER})
                )
                self.assertEqual([str(each) for each in contract.operations], ["GET /books", "GET /loans"])

    def test_servers_with_paths_of_their_own_become_one(self) -> None:
        texts = {
            name: described({"/": ANSWER}, servers=[{"url": f"http://127.0.0.1:1/api/{name}"}])
            for name in ("books", "loans")
        }
        contract = self.joined(["books.json", "loans.json"], **texts)
        self.assertEqual([each.url for each in contract.servers], ["http://127.0.0.1:1/api"])
        self.assertEqual([each.path for each in contract.operations], ["/books/", "/loans/"])

    def test_one_that_is_not_there(self) -> None:
        with self.assertRaises(ContractError) as caught:
            self.joined(["books.json", "lost.json"], books=described({"/books": ANSWER}))
        self.assertIn("lost.json", str(caught.exception))

    def test_versions_may_differ(self) -> None:
        older = json.dumps({"swagger": "2.0", "info": {"title": "t", "version": "1"}, "paths": {"/loans": ANSWER}})
        contract = self.joined(["books.json", "loans.json"], books=described({"/books": ANSWER}), loans=older)
        self.assertEqual(len(contract.operations), 2)


class Versions(Folder):
    def test_a_2_0_contract_validates_by_its_rules(self) -> None:
        thing = {
            "type": "object",
            "required": ["n"],
            "properties": {
                "n": {"type": "integer", "maximum": 5, "exclusiveMaximum": True},
                "t": {"type": "string", "x-nullable": True},
            },
        }
        answer = {"200": {"description": "", "schema": {"$ref": "#/definitions/Thing"}}}
        body = [{"name": "b", "in": "body", "schema": {"$ref": "#/definitions/Thing"}}]
        text = {
            "swagger": "2.0",
            "info": {"title": "t", "version": "1"},
            "paths": {"/things": {"post": {"parameters": body, "responses": answer}}},
            "definitions": {"Thing": thing},
        }
        contract = read_contract(self.write("c.json", json.dumps(text)))
        self.assertEqual(keywords(contract, {"n": 5}), {"exclusiveMaximum"})
        self.assertEqual(keywords(contract, {"n": 4, "t": None}), set())
        self.assertEqual(keywords(contract, {"t": "x"}), {"required"})
        operation = contract.operations[0]
        assert operation.body is not None
        self.assertEqual([media.name for media in operation.body.content], ["application/json"])

    def test_form_fields_are_a_record(self) -> None:
        fields = [{"name": "a", "in": "formData", "type": "integer", "required": True}, {"$ref": "#/parameters/file"}]
        text = {
            "swagger": "2.0",
            "info": {"title": "t", "version": "1"},
            "parameters": {"file": {"name": "f", "in": "formData", "type": "file"}},
            "paths": {"/things": {"post": {"parameters": fields, "responses": {"200": {"description": ""}}}}},
        }
        body = read_contract(self.write("c.json", json.dumps(text))).operations[0].body
        assert body is not None and body.content[0].schema is not None
        self.assertEqual(body.content[0].name, "multipart/form-data")
        self.assertEqual(set(body.content[0].schema.value["properties"]), {"a", "f"})
        self.assertEqual(body.content[0].schema.value["required"], ["a"])

    def test_the_word_of_basic_credentials_is_no_type(self) -> None:
        text = {
            "swagger": "2.0",
            "info": {"title": "t", "version": "1"},
            "securityDefinitions": {"Basic": {"type": "basic"}},
            "paths": {},
        }
        contract = read_contract(self.write("c.json", json.dumps(text)))
        self.assertEqual([(each.type, each.scheme) for each in contract.schemes], [("http", "basic")])
        self.assertEqual(contract.flaws, ())

    def test_mending_keeps_places_and_names_the_line(self) -> None:
        text = (
            "openapi: 3.1.0\ninfo: {title: t, version: '1'}\npaths: {}\ncomponents:\n  schemas:\n    Thing:\n"
            "      type: object\n      properties:\n        a:\n          type: int\n          required: true\n"
        )
        contract = read_contract(self.write("c.yaml", text))
        found = {flaw.kind: contract.line(flaw.place) for flaw in contract.flaws}
        self.assertEqual(found, {"required-on-property": 9, "unknown-type": 10})


class Templates(unittest.TestCase):
    def test_parameters_in_other_signs_are_put_in_braces(self) -> None:
        cases = {
            "/lots/<int:id>": "/lots/{id}",
            "/lots/<id>/bags/<bag>": "/lots/{id}/bags/{bag}",
            "/lots/:id": "/lots/{id}",
            "/lots/[id]/bags": "/lots/{id}/bags",
            r"/lots/{id: \d{1,3}}": "/lots/{id}",
        }
        for written, read in cases.items():
            self.assertEqual(in_braces(written, {"id"}), read)

    def test_what_may_be_part_of_a_path_stays(self) -> None:
        for path, declared in (("/lots/:now", {"id"}), ("/lots/{id}:archive", {"id"}), ("/lots/{ns:id}", {"ns:id"})):
            self.assertEqual(in_braces(path, declared), path)

    def test_paths_without_their_first_slash_are_told_and_read_where_they_can_be(self) -> None:
        document = minimal({"type": "object"})
        document["paths"] = {"things": document["paths"]["/things"], "{thing_href}": document["paths"]["/things"]}
        contract = contract_of(document)
        self.assertEqual({each.path for each in contract.operations}, {"/things"})
        self.assertEqual({each.kind for each in contract.flaws}, {"path-without-slash", "path-of-a-parameter"})


class Unreadable(unittest.TestCase):
    def test_an_answer_that_is_described_where_nobody_can_read_is_documented_all_the_same(self) -> None:
        document = minimal({"type": "object"})
        document["paths"]["/things"]["post"]["responses"]["404"] = {"$ref": "#/components/responses/NotThere"}
        contract = contract_of(document)
        found = {each.status: [media.name for media in each.content] for each in contract.operations[0].responses}
        self.assertEqual(found, {"200": ["application/json"], "404": ["*/*"]})
        self.assertEqual([each.kind for each in contract.flaws if each.severity == "error"], ["dangling-reference"])


if __name__ == "__main__":
    unittest.main()
