//! A register as a command has it before it: read once, with its folder.

use lavrin_fleet::register::{GrantsFor, Reading, Register, SourceFile, read, read_some};
use lavrin_store::StoreFault;
use lavrin_store::register::RegisterFolder;

/// A register that was read.
#[derive(Clone)]
pub struct OpenedRegister {
    /// Where it lies.
    pub folder: RegisterFolder,
    /// Its files.
    pub files: Vec<SourceFile>,
    /// What they say.
    pub reading: Reading,
}

impl OpenedRegister {
    /// Reads it.
    ///
    /// # Errors
    /// [`StoreFault`] where one of its files cannot be read.
    pub fn read(folder: RegisterFolder) -> Result<Self, StoreFault> {
        let files = folder.load()?;
        let reading = read(&files);
        Ok(Self { folder, files, reading })
    }

    /// The same with some of the grants, for those who ask about one person or one host.
    ///
    /// # Errors
    /// [`StoreFault`].
    pub fn read_some(folder: RegisterFolder, wanted: GrantsFor<'_>) -> Result<Self, StoreFault> {
        let files = folder.load()?;
        let reading = read_some(&files, wanted);
        Ok(Self { folder, files, reading })
    }

    /// Reads who and what is in it, without the grants: for those who only ask whose something is.
    ///
    /// # Errors
    /// [`StoreFault`].
    pub fn read_without_grants(folder: RegisterFolder) -> Result<Self, StoreFault> {
        let files = folder.load_without_grants()?;
        let reading = read(&files);
        Ok(Self { folder, files, reading })
    }

    /// What it says.
    #[must_use]
    pub fn register(&self) -> &Register {
        &self.reading.register
    }

    /// The text of a file; none where it is not there.
    #[must_use]
    pub fn text(&self, path: &str) -> Option<&str> {
        self.files.iter().find(|file| file.path == path).map(|file| file.text.as_str())
    }

    /// The register as it would be with another text of this file. Nothing is written.
    #[must_use]
    pub fn with(&self, path: &str, new: &str) -> Self {
        let mut files = self.files.clone();
        match files.iter_mut().find(|file| file.path == path) {
            Some(file) => new.clone_into(&mut file.text),
            None => files.push(SourceFile { path: path.to_owned(), text: new.to_owned() }),
        }
        let reading = read(&files);
        Self { folder: self.folder.clone(), files, reading }
    }

    /// Puts a new text in place of the one that was read, and reads it again.
    ///
    /// # Errors
    /// [`StoreFault`]; also where somebody else has changed the file meanwhile. Nothing is written then.
    pub fn save(&mut self, path: &str, new: &str) -> Result<(), StoreFault> {
        self.folder.save(path, self.text(path), new)?;
        *self = self.with(path, new);
        Ok(())
    }
}
