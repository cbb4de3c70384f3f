//! Parameters of baselines: their declarations, and their values with the layers each comes from.

mod declaration;
mod layer;
mod value;

pub(crate) use declaration::read_declarations;
pub use declaration::{ItemType, Limits, Parameter, ParameterType, SecretName};
pub(crate) use layer::takes;
pub use layer::{Layer, LayerValue, ParameterValue, disagree, plain, resolve};
