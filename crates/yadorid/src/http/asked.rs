//! What a request says: as JSON, and by its path. It is taken by its word, or not at all.
//!
//! Serde reads a JSON array as a struct, field by field in their order; `[]` would be an object in which nothing is said, and
//! "nothing is said" can mean everything. Here an object is an object, at every depth. Fields that are not known are refused
//! by the types themselves (`deny_unknown_fields`).

use super::problem::Problem;
use axum::extract::{FromRequest, FromRequestParts, Path, Request};
use axum::http::header;
use axum::http::request::Parts;
use bytes::Bytes;
use serde::de::{
    DeserializeOwned, DeserializeSeed, Deserializer, EnumAccess, Error as _, MapAccess, SeqAccess, Unexpected, Visitor,
};
use std::fmt;

/// Largest integer that every reader and writer of JSON takes exactly.
pub(super) const LARGEST_INTEGER: u64 = (1 << 53) - 1;

/// What a request sends as JSON.
pub(super) type JsonBody<T> = Result<Object<T>, Problem>;

/// A JSON object.
pub(super) struct Object<T>(pub T);

impl<T: DeserializeOwned, S: Send + Sync> FromRequest<S> for Object<T> {
    type Rejection = Problem;

    async fn from_request(request: Request, state: &S) -> Result<Self, Problem> {
        let mime =
            request.headers().get(header::CONTENT_TYPE).and_then(|value| value.to_str().ok()).unwrap_or_default();
        let essence = mime.split(';').next().unwrap_or_default().trim().to_ascii_lowercase();
        if essence != "application/json" && !(essence.starts_with("application/") && essence.ends_with("+json")) {
            return Err(Problem::not_json());
        }
        let body = Bytes::from_request(request, state).await?;
        object(&body).map(Self).map_err(|error| Problem::bad_json(&error))
    }
}

fn object<T: DeserializeOwned>(body: &[u8]) -> serde_json::Result<T> {
    let mut json = serde_json::Deserializer::from_slice(body);
    let read = T::deserialize(Objects(&mut json))?;
    json.end().map(|()| read)
}

/// Names and numbers in a path.
pub(super) struct InPath<T>(pub T);

impl<T: DeserializeOwned + Send, S: Send + Sync> FromRequestParts<S> for InPath<T> {
    type Rejection = Problem;

    async fn from_request_parts(parts: &mut Parts, state: &S) -> Result<Self, Problem> {
        match Path::from_request_parts(parts, state).await {
            Ok(Path(named)) => Ok(Self(named)),
            Err(rejection) => Err(Problem::bad_path(&rejection.body_text())),
        }
    }
}

/// Reads structs from objects only.
struct Objects<D>(D);

/// What reads a value within an object or a list.
struct Within<S>(S);

impl<'de, S: DeserializeSeed<'de>> DeserializeSeed<'de> for Within<S> {
    type Value = S::Value;

    fn deserialize<D: Deserializer<'de>>(self, from: D) -> Result<S::Value, D::Error> {
        self.0.deserialize(Objects(from))
    }
}

/// Passes on what is read; a list only where there may be one.
struct Passing<V> {
    visitor: V,
    is_struct: bool,
}

macro_rules! read {
    ($($method:ident),*) => {
        $(fn $method<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, D::Error> {
            self.0.$method(Passing { visitor, is_struct: false })
        })*
    };
}

impl<'de, D: Deserializer<'de>> Deserializer<'de> for Objects<D> {
    type Error = D::Error;

    read!(
        deserialize_any,
        deserialize_bool,
        deserialize_i8,
        deserialize_i16,
        deserialize_i32,
        deserialize_i64,
        deserialize_i128,
        deserialize_u8,
        deserialize_u16,
        deserialize_u32,
        deserialize_u64,
        deserialize_u128,
        deserialize_f32,
        deserialize_f64,
        deserialize_char,
        deserialize_str,
        deserialize_string,
        deserialize_bytes,
        deserialize_byte_buf,
        deserialize_option,
        deserialize_unit,
        deserialize_seq,
        deserialize_map,
        deserialize_identifier,
        deserialize_ignored_any
    );

    fn deserialize_unit_struct<V: Visitor<'de>>(self, name: &'static str, visitor: V) -> Result<V::Value, D::Error> {
        self.0.deserialize_unit_struct(name, Passing { visitor, is_struct: false })
    }

    fn deserialize_newtype_struct<V: Visitor<'de>>(self, name: &'static str, visitor: V) -> Result<V::Value, D::Error> {
        self.0.deserialize_newtype_struct(name, Passing { visitor, is_struct: false })
    }

    fn deserialize_tuple<V: Visitor<'de>>(self, length: usize, visitor: V) -> Result<V::Value, D::Error> {
        self.0.deserialize_tuple(length, Passing { visitor, is_struct: false })
    }

    fn deserialize_tuple_struct<V: Visitor<'de>>(
        self,
        name: &'static str,
        length: usize,
        visitor: V,
    ) -> Result<V::Value, D::Error> {
        self.0.deserialize_tuple_struct(name, length, Passing { visitor, is_struct: false })
    }

    fn deserialize_struct<V: Visitor<'de>>(
        self,
        name: &'static str,
        fields: &'static [&'static str],
        visitor: V,
    ) -> Result<V::Value, D::Error> {
        self.0.deserialize_struct(name, fields, Passing { visitor, is_struct: true })
    }

    fn deserialize_enum<V: Visitor<'de>>(
        self,
        name: &'static str,
        variants: &'static [&'static str],
        visitor: V,
    ) -> Result<V::Value, D::Error> {
        self.0.deserialize_enum(name, variants, Passing { visitor, is_struct: false })
    }

    fn is_human_readable(&self) -> bool {
        self.0.is_human_readable()
    }
}

macro_rules! pass {
    ($($method:ident: $type:ty),*) => {
        $(fn $method<E: serde::de::Error>(self, value: $type) -> Result<V::Value, E> {
            self.visitor.$method(value)
        })*
    };
}

impl<'de, V: Visitor<'de>> Visitor<'de> for Passing<V> {
    type Value = V::Value;

    fn expecting(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.visitor.expecting(out)
    }

    pass!(
        visit_bool: bool, visit_i64: i64, visit_i128: i128, visit_u128: u128, visit_f64: f64,
        visit_char: char, visit_str: &str, visit_borrowed_str: &'de str, visit_string: String, visit_bytes: &[u8],
        visit_borrowed_bytes: &'de [u8], visit_byte_buf: Vec<u8>
    );

    fn visit_u64<E: serde::de::Error>(self, value: u64) -> Result<V::Value, E> {
        // Larger ones are not what every writer of JSON has meant (RFC 8259, section 6).
        if value > LARGEST_INTEGER {
            return Err(E::invalid_value(Unexpected::Unsigned(value), &"an integer of at most 9,007,199,254,740,991"));
        }
        self.visitor.visit_u64(value)
    }

    fn visit_none<E: serde::de::Error>(self) -> Result<V::Value, E> {
        self.visitor.visit_none()
    }

    fn visit_unit<E: serde::de::Error>(self) -> Result<V::Value, E> {
        self.visitor.visit_unit()
    }

    fn visit_some<D: Deserializer<'de>>(self, from: D) -> Result<V::Value, D::Error> {
        self.visitor.visit_some(Objects(from))
    }

    fn visit_newtype_struct<D: Deserializer<'de>>(self, from: D) -> Result<V::Value, D::Error> {
        self.visitor.visit_newtype_struct(Objects(from))
    }

    fn visit_seq<A: SeqAccess<'de>>(self, list: A) -> Result<V::Value, A::Error> {
        if self.is_struct {
            return Err(A::Error::invalid_type(Unexpected::Seq, &"an object"));
        }
        self.visitor.visit_seq(Objects(list))
    }

    fn visit_map<A: MapAccess<'de>>(self, map: A) -> Result<V::Value, A::Error> {
        self.visitor.visit_map(Objects(map))
    }

    fn visit_enum<A: EnumAccess<'de>>(self, named: A) -> Result<V::Value, A::Error> {
        // Those of the interface are words, with nothing in them.
        self.visitor.visit_enum(named)
    }
}

impl<'de, A: SeqAccess<'de>> SeqAccess<'de> for Objects<A> {
    type Error = A::Error;

    fn next_element_seed<T: DeserializeSeed<'de>>(&mut self, seed: T) -> Result<Option<T::Value>, A::Error> {
        self.0.next_element_seed(Within(seed))
    }

    fn size_hint(&self) -> Option<usize> {
        self.0.size_hint()
    }
}

impl<'de, A: MapAccess<'de>> MapAccess<'de> for Objects<A> {
    type Error = A::Error;

    fn next_key_seed<K: DeserializeSeed<'de>>(&mut self, seed: K) -> Result<Option<K::Value>, A::Error> {
        self.0.next_key_seed(seed)
    }

    fn next_value_seed<T: DeserializeSeed<'de>>(&mut self, seed: T) -> Result<T::Value, A::Error> {
        self.0.next_value_seed(Within(seed))
    }

    fn size_hint(&self) -> Option<usize> {
        self.0.size_hint()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use yadori_api as api;

    fn refused<T: DeserializeOwned>(body: &str) -> String {
        match object::<T>(body.as_bytes()) {
            Err(error) => error.to_string(),
            Ok(_) => panic!("{body} was taken"),
        }
    }

    #[test]
    fn what_is_no_object_is_refused_at_every_depth() {
        assert!(refused::<api::Clear>("[]").contains("expected an object"));
        assert!(refused::<api::Clear>("[null,null,null,null,null,true,true]").contains("expected an object"));
        assert!(refused::<api::RulesChange>(r#"{"limits":[5,0,0]}"#).contains("expected an object"));
        assert!(refused::<api::RulesChange>(r#"{"scopes":[{"kind":"text","limits":[5]}]}"#).contains("an object"));
        assert!(refused::<api::RulesChange>(r#"{"scopes":[["text",null,{}]]}"#).contains("expected an object"));
        assert!(refused::<api::Undo>("null").contains("expected"));
        assert!(refused::<api::Undo>("{} {}").contains("trailing"));
    }

    #[test]
    fn what_is_not_known_or_said_twice_or_of_another_type_is_refused() {
        assert!(refused::<api::Pause>(r#"{"second":5}"#).contains("unknown field"));
        assert!(refused::<api::Undo>(r#"{"stp":1}"#).contains("unknown field"));
        assert!(refused::<api::Undo>(r#"{"step":1,"step":2}"#).contains("duplicate field"));
        assert!(refused::<api::Undo>(r#"{"step":"1"}"#).contains("invalid type"));
        assert!(refused::<api::Undo>(r#"{"step":9007199254740992}"#).contains("at most"));
        assert!(refused::<api::RulesChange>(r#"{"limits":{"cuont":5}}"#).contains("unknown field"));
    }

    #[test]
    fn what_is_right_is_taken() {
        let body = br#"{"limits":{"count":5},"scopes":[{"kind":"image","limits":{"bytes":7}}],"kinds":["text"],"confirmed":true}"#;
        let Ok(change) = object::<api::RulesChange>(body) else { panic!("it is right") };
        assert_eq!((change.limits.unwrap().count, change.scopes.unwrap()[0].limits.bytes), (5, 7));
        assert_eq!(change.kinds, Some(vec![api::Kind::Text]));
        let Ok(recall) = object::<api::Recall>(br#"{"clips":["1"],"answers":{"name":"Kit"}}"#) else { panic!() };
        assert_eq!(recall.answers["name"], "Kit");
    }
}
